// SPDX-License-Identifier: GPL-3.0-or-later
//
// The markers of one lane at one nesting depth. They do not overlap and are sorted by begin. Their
// columns lie in chunks of kChunk markers, each as narrow as its numbers allow (about 12 bytes a
// marker); over them stand two coarser resolutions: groups of kGroup markers, and the chunks, each
// with the sums that drawing and asking need. Zoomed out, nobody reads the columns themselves.
//
// A row is a view of a Storage; any number of threads may read it.
#pragma once

#include <algorithm>
#include <utility>
#include <vector>

#include "core/store/growing_list.h"
#include "path_table.h"

namespace fugato {

enum MarkerFlag : uint8_t { kMarkerWait = 1, kMarkerEndRepaired = 2, kMarkerInsideWait = 4, kMarkerChangedNothing = 8 };

/// What a chunk's markers of one path (numbered within the lane) add up to.
struct PathSum {
    uint32_t path = 0;
    uint32_t count = 0;
    int64_t total = 0, longest = 0;  // ns
};

class MarkerRow {
public:
    static constexpr uint32_t kChunkBits = 12, kGroupBits = 6;
    static constexpr uint32_t kChunk = 1u << kChunkBits, kGroup = 1u << kGroupBits;

    struct Chunk {
        uint64_t at = 0;  // of its columns in the storage, one after another: begins, then at:
        uint32_t durationsAt = 0, parentsAt = 0, pathsAt = 0, flagsAt = 0;  // relative to `at`
        int64_t begin = 0;                                                  // of its first marker
        int64_t busyBefore = 0, waitBefore = 0;                             // summed durations before it, in the row
        int64_t longest = 0;                                                // duration
        uint32_t firstParent = 0;
        uint32_t sumsFrom = 0;  // in sums(); they end where the next chunk's begin
        // Bytes a number takes: begins after `begin`, durations, parents after `firstParent`, paths;
        // flags: 0 where no marker has any.
        uint8_t beginBytes = 0, durationBytes = 0, parentBytes = 0, pathBytes = 0, flagBytes = 0, unused[3]{};
    };
    struct Group {
        int64_t begin = 0;       // of its first marker
        int64_t busyBefore = 0;  // summed durations of all markers of the row before it
        uint32_t longest = 0;    // duration, at most UINT32_MAX
        uint32_t path = 0;       // on which most of its time was spent, numbered within the lane
    };
    /// What is stored of a row, beside the chunks' columns.
    struct Parts {
        uint64_t size = 0;
        bool waits = false;
        Column<Chunk> chunks;
        Column<Group> groups;
        Column<int64_t> groupWaits;  // as Group::busyBefore, of the waits alone; empty where there are none
        Column<PathSum> sums;
    };

    MarkerRow() = default;
    MarkerRow(const Storage& storage, const Parts& parts) : storage_(&storage), parts_(parts) {}
    /// The lane's own numbers of paths as PathIds; belongs to the lane.
    void setPaths(const PathId* paths) { paths_ = paths; }

    uint32_t size() const { return static_cast<uint32_t>(parts_.size); }
    bool empty() const { return !parts_.size; }
    int64_t begin(uint32_t i) const {
        const Chunk& c = chunkOf(i);
        return c.begin + number(storage_->at(c.at), c.beginBytes, i & (kChunk - 1));
    }
    int64_t duration(uint32_t i) const {
        const Chunk& c = chunkOf(i);
        return number(storage_->at(c.at) + c.durationsAt, c.durationBytes, i & (kChunk - 1));
    }
    int64_t end(uint32_t i) const {
        const Chunk& c = chunkOf(i);
        const char* at = storage_->at(c.at);
        return c.begin + number(at, c.beginBytes, i & (kChunk - 1)) +
               number(at + c.durationsAt, c.durationBytes, i & (kChunk - 1));
    }
    /// Index in the row above; ascending.
    uint32_t parent(uint32_t i) const {
        const Chunk& c = chunkOf(i);
        return c.firstParent +
               static_cast<uint32_t>(number(storage_->at(c.at) + c.parentsAt, c.parentBytes, i & (kChunk - 1)));
    }
    PathId path(uint32_t i) const { return paths_[lanePath(i)]; }
    /// The path as numbered within the lane.
    uint32_t lanePath(uint32_t i) const {
        const Chunk& c = chunkOf(i);
        return static_cast<uint32_t>(number(storage_->at(c.at) + c.pathsAt, c.pathBytes, i & (kChunk - 1)));
    }
    uint8_t flags(uint32_t i) const {
        const Chunk& c = chunkOf(i);
        return c.flagBytes ? static_cast<uint8_t>(storage_->at(c.at)[c.flagsAt + (i & (kChunk - 1))]) : 0;
    }
    PathId pathOf(uint32_t lanePath) const { return paths_[lanePath]; }

    /// Summed durations of the markers before `i`; i may be size().
    int64_t busyBefore(uint32_t i) const;
    /// The same of the waits among them.
    int64_t waitBefore(uint32_t i) const;
    /// Summed durations of the markers [from, to).
    int64_t busyBetween(uint32_t from, uint32_t to) const;
    /// The last marker that begins before `time`, or kNone.
    uint32_t lastBefore(int64_t time) const;
    /// The same, quicker where it lies not far from `near`.
    uint32_t lastBefore(int64_t time, uint32_t near) const;
    /// The first marker that begins at `time` or later, or size().
    uint32_t firstFrom(int64_t time) const;
    /// Markers that are shown as one.
    struct Together {
        uint32_t past = 0;  // the first that does not belong to them
        bool rough = false;
        int64_t work = 0;  // summed durations of those that are not waits
    };
    /// Marker `from` and those after it that begin before `time`. Where they are at least `coarse`, where they end is
    /// taken from where its group begins and the next one does, as if those between were spread evenly, and of the
    /// groups in which the first and the last lie an even share of the work; then no column is read.
    Together together(uint32_t from, int64_t time, uint32_t coarse) const;
    /// Says that marker `i` will be looked at soon, so that it lies nearer by then: its group, or its columns.
    void expectGroup(uint32_t i) const {
        const uint32_t group = std::min(i, size() - 1) >> kGroupBits;
        __builtin_prefetch(&parts_.groups[group]);
        if (parts_.waits) __builtin_prefetch(&parts_.groupWaits[group]);
    }
    void expect(uint32_t i) const {
        i = std::min(i, size() - 1);
        const Chunk& c = chunkOf(i);
        const char* at = storage_->at(c.at);
        const size_t k = i & (kChunk - 1);
        __builtin_prefetch(at + k * c.beginBytes);
        __builtin_prefetch(at + c.durationsAt + k * c.durationBytes);
        __builtin_prefetch(at + c.pathsAt + k * c.pathBytes);
    }
    /// The first marker of the last group that begins before `time`; 0 where none does.
    uint32_t groupBefore(int64_t time) const;
    /// The same, quicker where it lies not far from marker `near`; kNone where none does.
    uint32_t groupBefore(int64_t time, uint32_t near) const;
    /// The first marker that ends after `time`, or size().
    uint32_t firstEndingAfter(int64_t time) const;
    /// The markers that overlap [begin, end), or begin in it and have no length: from the first to before the
    /// second.
    std::pair<uint32_t, uint32_t> overlapping(int64_t begin, int64_t end) const;
    /// The same, quicker where they lie not far from `near`; 0: nothing is known of where they lie.
    std::pair<uint32_t, uint32_t> overlapping(int64_t begin, int64_t end, uint32_t near) const;
    /// The markers whose parent is `index` of the row above.
    std::pair<uint32_t, uint32_t> childrenOf(uint32_t index) const;

    const Column<Chunk>& chunks() const { return parts_.chunks; }
    const Column<Group>& groups() const { return parts_.groups; }
    const Column<int64_t>& groupWaits() const { return parts_.groupWaits; }
    /// The sums of a chunk, each path once.
    std::pair<const PathSum*, const PathSum*> sumsOf(size_t chunk) const {
        const Column<PathSum>& all = parts_.sums;
        const size_t to = chunk + 1 < parts_.chunks.size() ? parts_.chunks[chunk + 1].sumsFrom : all.size();
        return {all.data() + parts_.chunks[chunk].sumsFrom, all.data() + to};
    }
    const Parts& parts() const { return parts_; }
    /// Whether the columns of the markers [from, to) can be read without waiting for a disk.
    bool resident(uint32_t from, uint32_t to) const;
    /// Reads them into memory, however long that takes.
    void fetch(uint32_t from, uint32_t to) const;

    /// Calls `take(index, begin, duration, lanePath, flags)` for the markers [from, to), quicker than one by one.
    template <class Take>
    void forEach(uint32_t from, uint32_t to, Take&& take) const {
        while (from < to) {
            const uint32_t chunkEnd = std::min(to, (from | (kChunk - 1)) + 1);
            const Chunk& c = chunkOf(from);
            const char* at = storage_->at(c.at);
            const NumbersOf begins(at, c.beginBytes), durations(at + c.durationsAt, c.durationBytes),
                paths(at + c.pathsAt, c.pathBytes);
            const char* const flags = c.flagBytes ? at + c.flagsAt : nullptr;
            for (; from < chunkEnd; ++from) {
                const uint32_t k = from & (kChunk - 1);
                take(from, c.begin + begins[k], durations[k], static_cast<uint32_t>(paths[k]),
                     flags ? static_cast<uint8_t>(flags[k]) : uint8_t{0});
            }
        }
    }

    /// Calls `take(index, duration)` for those of the markers [from, to), all in one chunk, for whose
    /// duration `wanted` says so. Reads nothing but durations.
    template <class Wanted, class Take>
    void eachDuration(uint32_t from, uint32_t to, Wanted&& wanted, Take&& take) const {
        if (from >= to) return;
        const Chunk& c = chunkOf(from);
        const char* at = storage_->at(c.at) + c.durationsAt;
        const auto look = [&]<class N>(const N* durations) {
            for (; from < to; ++from)
                if (const auto duration = static_cast<int64_t>(durations[from & (kChunk - 1)]); wanted(duration))
                    take(from, duration);
        };
        if (c.durationBytes == 2)
            look(reinterpret_cast<const uint16_t*>(at));
        else if (c.durationBytes == 4)
            look(reinterpret_cast<const uint32_t*>(at));
        else
            look(reinterpret_cast<const int64_t*>(at));
    }

    /// Reads markers one by one that mostly lie near the one before; quicker then, since it keeps where the columns of
    /// their chunk are. Of one thread; the row outlives it.
    class Reader {
    public:
        explicit Reader(const MarkerRow* row) : row_(row) {}
        int64_t begin(uint32_t i) {
            find(i);
            return begin_ + static_cast<int64_t>(number(at_, beginBytes_, i));
        }
        int64_t duration(uint32_t i) {
            find(i);
            return static_cast<int64_t>(number(at_ + durationsAt_, durationBytes_, i));
        }
        PathId path(uint32_t i) {
            find(i);
            return row_->paths_[number(at_ + pathsAt_, pathBytes_, i)];
        }
        /// Index in the row above.
        uint32_t parent(uint32_t i) {
            find(i);
            return firstParent_ +
                   static_cast<uint32_t>(MarkerRow::number(at_ + parentsAt_, parentBytes_, i & (kChunk - 1)));
        }
        /// The last marker that begins before `time` in the group whose first marker is `first` and begins before it.
        uint32_t lastBefore(int64_t time, uint32_t first) {
            find(first);
            return beginBytes_ == 4 ? lastOf<uint32_t>(time, first) : lastOf<int64_t>(time, first);
        }
        uint8_t flags(uint32_t i) {
            find(i);
            return flagBytes_ ? static_cast<uint8_t>(at_[flagsAt_ + (i & (kChunk - 1))]) : uint8_t{0};
        }
        /// Calls `take(index, begin, duration, path)` for `from` and those before it until it returns false; returns
        /// where that was, or kNone where there were no more.
        template <class Take>
        uint32_t backwards(uint32_t from, Take&& take) {
            for (;; --from) {
                find(from);
                const int64_t begin = begin_ + static_cast<int64_t>(number(at_, beginBytes_, from));
                if (!take(from, begin, static_cast<int64_t>(number(at_ + durationsAt_, durationBytes_, from)),
                          row_->paths_[number(at_ + pathsAt_, pathBytes_, from)]))
                    return from;
                if (!from) return kNone;
            }
        }
        /// Says that marker `i` will be read soon, so that it lies nearer by then. Only of a marker in the chunk read
        /// last; of others does nothing.
        void expect(uint32_t i) const {
            if (i >> kChunkBits != chunk_) return;
            const size_t k = i & (kChunk - 1);
            __builtin_prefetch(at_ + k * beginBytes_);
            __builtin_prefetch(at_ + durationsAt_ + k * durationBytes_);
            __builtin_prefetch(at_ + pathsAt_ + k * pathBytes_);
            __builtin_prefetch(at_ + parentsAt_ + k * parentBytes_);
        }
        /// The same of the begins of a whole group.
        void expectGroup(uint32_t first) {
            find(first);
            const char* at = at_ + (first & (kChunk - 1)) * size_t{beginBytes_};
            for (size_t line = 0; line < kGroup * size_t{beginBytes_}; line += 64) __builtin_prefetch(at + line);
        }
        const MarkerRow& row() const { return *row_; }

    private:
        void find(uint32_t i) {
            if (i >> kChunkBits != chunk_) look(i);
        }
        void look(uint32_t i);
        template <class Begin>
        uint32_t lastOf(int64_t time, uint32_t first) const;
        /// Reads 8 bytes and leaves out what belongs to the next: behind each of these columns lies another.
        static uint64_t number(const char* at, uint8_t bytes, uint32_t i) {
            uint64_t value;
            std::memcpy(&value, at + (i & (kChunk - 1)) * size_t{bytes}, sizeof value);
            return value & (~uint64_t{0} >> (64 - 8 * bytes));
        }

        const MarkerRow* row_;
        const char* at_ = nullptr;
        int64_t begin_ = 0;
        uint32_t chunk_ = kNone, durationsAt_ = 0, pathsAt_ = 0, parentsAt_ = 0, flagsAt_ = 0, firstParent_ = 0;
        uint8_t beginBytes_ = 0, durationBytes_ = 0, pathBytes_ = 0, parentBytes_ = 0, flagBytes_ = 0;
    };

private:
    /// A column of numbers of one width. Reads 8 bytes and leaves out what belongs to the next, without a branch:
    /// behind each of the columns it is used for lies another.
    class NumbersOf {
    public:
        NumbersOf(const char* at, uint8_t bytes) : at_(at), bytes_(bytes), mask_(~uint64_t{0} >> (64 - 8 * bytes)) {}
        int64_t operator[](uint32_t k) const {
            uint64_t value;
            std::memcpy(&value, at_ + k * bytes_, sizeof value);
            return static_cast<int64_t>(value & mask_);
        }

    private:
        const char* at_;
        size_t bytes_;
        uint64_t mask_;
    };
    const Chunk& chunkOf(uint32_t i) const { return parts_.chunks[i >> kChunkBits]; }
    static int64_t number(const char* at, uint8_t bytes, uint32_t i) {
        switch (bytes) {
            case 1: return static_cast<uint8_t>(at[i]);
            case 2: return read<uint16_t>(at, i);
            case 4: return read<uint32_t>(at, i);
            case 8: return read<int64_t>(at, i);
            default: return 0;
        }
    }
    template <class N>
    static N read(const char* at, uint32_t i) {
        N value;
        std::memcpy(&value, at + size_t{i} * sizeof(N), sizeof(N));
        return value;
    }
    template <class Before>
    uint32_t partition(Before&& before) const;
    /// `from`: the first that begins at `begin` or later.
    std::pair<uint32_t, uint32_t> overlappingFrom(uint32_t from, int64_t begin, int64_t end) const;
    /// Summed durations of the markers before `i` that are not waits; in the middle of a group an even share of it.
    int64_t roughWorkBefore(uint32_t i) const;
    /// Summed durations of [from, to), all in one chunk.
    int64_t sumInChunk(uint32_t from, uint32_t to) const;

    const Storage* storage_ = nullptr;
    Parts parts_;
    const PathId* paths_ = nullptr;
};

}  // namespace fugato
