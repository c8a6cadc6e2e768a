// SPDX-License-Identifier: GPL-3.0-or-later
#include "occurrence_list.h"

#include <algorithm>
#include <map>
#include <tuple>

#include "core/store/long_work.h"
#include "core/table/letters.h"
#include "marker_parts.h"

namespace fugato {

namespace {

constexpr uint64_t kGatheredAtOnce = 500'000;  // occurrences, of which those that are wanted are then found

/// By lane, nesting and time, as the parts come.
bool standsBefore(const Occurrence& a, const Occurrence& b) {
    return std::tie(a.marker.lane, a.marker.row, a.marker.index) <
           std::tie(b.marker.lane, b.marker.row, b.marker.index);
}

/// Where they are, which every order of them shares.
struct OccurrencesByPart {
    OccurrencesByPart(std::shared_ptr<const Recording> recording, uint32_t ofSite, const Scope& scope)
        : recordingHeld(std::move(recording)),
          r(*recordingHeld),
          site(ofSite),
          paths(lanePathsOf(r, site, scope)),
          parts(partsWith(r, paths, scope)) {
        before.reserve(parts.size() + 1);
        before.push_back(0);
        for (const ChunkPart& part : parts) before.push_back(before.back() + countIn(part));
    }
    uint64_t size() const { return before.back(); }
    const MarkerRow& rowOf(const ChunkPart& part) const { return r.lanes[part.lane].rows[part.row]; }

    /// Calls `add(path, count)`, with the lane's own number of the path, for what a part holds on each; paths may come
    /// more than once.
    template <class Add>
    void eachCount(const ChunkPart& part, Add&& add) const {
        const MarkerRow& row = rowOf(part);
        const std::vector<uint8_t>& isSite = paths[part.lane].isSite;
        const bool whole =
            part.from % MarkerRow::kChunk == 0 && part.to == std::min(row.size(), part.from + MarkerRow::kChunk);
        if (whole) {
            for (auto [sum, to] = row.sumsOf(part.from >> MarkerRow::kChunkBits); sum != to; ++sum)
                if (isSite[sum->path]) add(sum->path, sum->count);
        } else {
            row.forEach(part.from, part.to, [&](uint32_t, int64_t, int64_t, uint32_t path, uint8_t) {
                if (isSite[path]) add(path, 1);
            });
        }
    }
    uint64_t countIn(const ChunkPart& part) const {
        uint64_t count = 0;
        eachCount(part, [&](uint32_t, uint64_t more) { count += more; });
        return count;
    }
    /// Calls `take(occurrence, path)` for those of a part.
    template <class Take>
    void each(const ChunkPart& part, Take&& take) const {
        const std::vector<uint8_t>& isSite = paths[part.lane].isSite;
        rowOf(part).forEach(part.from, part.to,
                            [&](uint32_t at, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                                if (isSite[path]) take(Occurrence{{part.lane, part.row, at}, begin, duration}, path);
                            });
    }
    /// The same for those of a length only, of which nothing else is read.
    template <class Wanted, class Take>
    void eachOfLength(const ChunkPart& part, Wanted&& wanted, Take&& take) const {
        const MarkerRow& row = rowOf(part);
        const std::vector<uint8_t>& isSite = paths[part.lane].isSite;
        row.eachDuration(part.from, part.to, wanted, [&](uint32_t at, int64_t duration) {
            if (isSite[row.lanePath(at)]) take(at, duration);
        });
    }
    /// Whether one of a part may be so long.
    bool mayReach(const ChunkPart& part, int64_t duration) const {
        auto [sum, to] = rowOf(part).sumsOf(part.from >> MarkerRow::kChunkBits);
        return std::any_of(sum, to,
                           [&](const PathSum& s) { return paths[part.lane].isSite[s.path] && s.longest >= duration; });
    }
    /// What `gather(out, part)` gathers of all parts, in their order.
    template <class Gather>
    std::vector<Occurrence> gathered(Gather&& gather) const {
        std::vector<std::vector<Occurrence>> found(threadsFor(parts));
        eachPart(parts, found.size(), {}, 0, 1,
                 [&](size_t thread, const ChunkPart& part) { gather(found[thread], part); });
        for (size_t i = 1; i < found.size(); ++i) found[0].insert(found[0].end(), found[i].begin(), found[i].end());
        return std::move(found[0]);
    }

    const std::shared_ptr<const Recording> recordingHeld;
    const Recording& r;
    const uint32_t site;
    const std::vector<LanePaths> paths;  // by lane
    const std::vector<ChunkPart> parts;
    std::vector<uint64_t> before;  // by part: occurrences in those before it; and all
};

/// What all orders have in common: they are found in ascending order, and a descending list is that from its end.
class OrderedOccurrences : public OccurrenceList {
public:
    OrderedOccurrences(std::shared_ptr<const OccurrencesByPart> all, bool descending)
        : all_(std::move(all)), descending_(descending) {}
    std::shared_ptr<const OccurrenceList> inOrder(OccurrenceOrder order, bool descending,
                                                  const Progress& progress) const override;
    const std::shared_ptr<const Recording>& recording() const override { return all_->recordingHeld; }
    uint64_t size() const override { return all_->size(); }
    std::vector<Occurrence> read(uint64_t first, size_t count) const override {
        longWork("reading a marker's occurrences");
        if (first >= size() || !count) return {};
        const uint64_t past = first + std::min<uint64_t>(count, size() - first);
        if (!descending_) return ascending(first, past);
        std::vector<Occurrence> found = ascending(size() - past, size() - first);
        std::reverse(found.begin(), found.end());
        return found;
    }
    std::optional<uint64_t> placeOf(const MarkerRef& marker) const override {
        longWork("the place of an occurrence");
        const Recording& r = all_->r;
        if (!holds(r, marker) || r.paths[r.pathOf(marker)].site != all_->site) return std::nullopt;
        const bool among = std::any_of(all_->parts.begin(), all_->parts.end(), [&](const ChunkPart& part) {
            return part.lane == marker.lane && part.row == marker.row && part.from <= marker.index &&
                   marker.index < part.to;
        });
        if (!among) return std::nullopt;
        const MarkerRow& row = r.lanes[marker.lane].rows[marker.row];
        const uint64_t place =
            countBefore({marker, row.begin(marker.index), row.duration(marker.index)}, row.lanePath(marker.index));
        return descending_ ? size() - 1 - place : place;
    }

protected:
    /// Those from one place to before another, which is not beyond the end.
    virtual std::vector<Occurrence> ascending(uint64_t from, uint64_t past) const = 0;
    virtual uint64_t countBefore(const Occurrence& one, uint32_t path) const = 0;
    /// How many of all come before, as `comesBefore(occurrence, path)` says.
    template <class Before>
    uint64_t countWhere(Before&& comesBefore) const {
        std::vector<uint64_t> counts(threadsFor(all_->parts));
        eachPart(all_->parts, counts.size(), {}, 0, 1, [&](size_t thread, const ChunkPart& part) {
            all_->each(part,
                       [&](const Occurrence& other, uint32_t path) { counts[thread] += comesBefore(other, path); });
        });
        return std::accumulate(counts.begin(), counts.end(), uint64_t{0});
    }
    /// Those in [from, past) once they were sorted, in order; the others are not.
    template <class Before>
    static std::vector<Occurrence> cut(std::vector<Occurrence>& found, uint64_t from, uint64_t past, Before&& before) {
        const auto at = [&](uint64_t i) {
            return found.begin() + static_cast<std::ptrdiff_t>(std::min<uint64_t>(i, found.size()));
        };
        if (at(from) != found.end()) std::nth_element(found.begin(), at(from), found.end(), before);
        if (at(past) != found.end()) std::nth_element(at(from), at(past), found.end(), before);
        std::sort(at(from), at(past), before);
        return {at(from), at(past)};
    }

    const std::shared_ptr<const OccurrencesByPart> all_;

private:
    const bool descending_;
};

/// How many there are of each length is known roughly; where those that are wanted lie, it is looked at more closely.
class ByDuration : public OrderedOccurrences {
public:
    ByDuration(std::shared_ptr<const OccurrencesByPart> all, bool descending, std::vector<DurationBar> bars)
        : OrderedOccurrences(std::move(all), descending), bars_(std::move(bars)) {}

    /// None where `progress` cancelled it.
    static std::optional<std::vector<DurationBar>> barsOf(const OccurrencesByPart& all, const Progress& progress) {
        std::vector<Buckets> buckets(threadsFor(all.parts));
        const bool looked =
            eachPart(all.parts, buckets.size(), progress, 0, 1, [&](size_t thread, const ChunkPart& part) {
                all.eachOfLength(
                    part, [](int64_t) { return true; },
                    [&](uint32_t, int64_t duration) { buckets[thread].add(duration); });
            });
        if (!looked) return std::nullopt;
        for (size_t i = 1; i < buckets.size(); ++i) buckets[0].add(buckets[i]);
        return buckets[0].bars();
    }

private:
    static bool shorter(const Occurrence& a, const Occurrence& b) {
        return a.duration != b.duration ? a.duration < b.duration : standsBefore(a, b);
    }
    uint64_t countBefore(const Occurrence& one, uint32_t) const override {
        return countWhere([&](const Occurrence& other, uint32_t) { return shorter(other, one); });
    }
    std::vector<Occurrence> ascending(uint64_t from, uint64_t past) const override {
        std::vector<Occurrence> out;
        pick(bars_, 0, from, past, out);
        return out;
    }
    /// Of the bars, before which stand so many, those in [from, past).
    void pick(const std::vector<DurationBar>& bars, uint64_t before, uint64_t from, uint64_t past,
              std::vector<Occurrence>& out) const {
        const auto take = [&](std::vector<Occurrence> found, uint64_t count) {
            const std::vector<Occurrence> wanted =
                cut(found, std::max(from, before) - before, std::min(past, before + count) - before, shorter);
            out.insert(out.end(), wanted.begin(), wanted.end());
            before += count;
        };
        for (size_t i = 0; i < bars.size() && before < past;) {
            if (before + bars[i].count <= from) {
                before += bars[i++].count;
            } else if (bars[i].count <= kGatheredAtOnce) {
                uint64_t count = 0;  // of those that are gathered together
                const int64_t low = bars[i].from;
                int64_t high = low;
                for (; i < bars.size() && before + count < past && count + bars[i].count <= kGatheredAtOnce; ++i) {
                    count += bars[i].count;
                    high = bars[i].to;
                }
                take(between(low, high), count);
            } else if (bars[i].to - bars[i].from == 1) {
                const uint64_t first = std::max(from, before) - before,
                               last = std::min(past, before + bars[i].count) - before;
                const std::vector<Occurrence> found = alike(bars[i].from, first, last);
                out.insert(out.end(), found.begin(), found.end());
                before += bars[i++].count;
            } else {
                pick(parted(bars[i]), before, from, past, out);
                before += bars[i++].count;
            }
        }
    }
    /// All that last from `low` to before `high` ns, as the parts come.
    std::vector<Occurrence> between(int64_t low, int64_t high) const {
        return all_->gathered([&](std::vector<Occurrence>& out, const ChunkPart& part) {
            if (!all_->mayReach(part, low)) return;
            all_->eachOfLength(
                part, [&](int64_t d) { return d >= low && d < high; },
                [&](uint32_t at, int64_t d) {
                    out.push_back({{part.lane, part.row, at}, all_->rowOf(part).begin(at), d});
                });
        });
    }
    /// Of those of one length the ones from `first` to before `past`.
    std::vector<Occurrence> alike(int64_t duration, uint64_t first, uint64_t past) const {
        const auto isIt = [&](int64_t d) { return d == duration; };
        std::vector<uint64_t> counts(all_->parts.size());
        eachPart(all_->parts, threadsFor(all_->parts), {}, 0, 1, [&](size_t, const ChunkPart& part) {
            uint64_t& count = counts[static_cast<size_t>(&part - all_->parts.data())];
            if (all_->mayReach(part, duration)) all_->eachOfLength(part, isIt, [&](uint32_t, int64_t) { ++count; });
        });
        std::vector<Occurrence> out;
        uint64_t before = 0;
        for (size_t i = 0; i < counts.size() && before < past; ++i) {
            const ChunkPart& part = all_->parts[i];
            if (before + counts[i] > first)
                all_->eachOfLength(part, isIt, [&](uint32_t at, int64_t d) {
                    if (before >= first && before < past)
                        out.push_back({{part.lane, part.row, at}, all_->rowOf(part).begin(at), d});
                    ++before;
                });
            else
                before += counts[i];
        }
        return out;
    }
    /// A bar in at most 128 of equal width.
    std::vector<DurationBar> parted(const DurationBar& bar) const {
        constexpr int64_t kParts = 128;
        const int64_t width = std::max<int64_t>(1, (bar.to - bar.from) / kParts);
        std::vector<std::array<uint64_t, kParts>> counts(threadsFor(all_->parts));
        for (auto& of : counts) of.fill(0);
        eachPart(all_->parts, counts.size(), {}, 0, 1, [&](size_t thread, const ChunkPart& part) {
            if (!all_->mayReach(part, bar.from)) return;
            all_->eachOfLength(
                part, [&](int64_t d) { return d >= bar.from && d < bar.to; },
                [&](uint32_t, int64_t d) { ++counts[thread][static_cast<size_t>((d - bar.from) / width)]; });
        });
        std::vector<DurationBar> bars;
        for (int64_t i = 0; i < kParts; ++i) {
            uint64_t count = 0;
            for (const auto& of : counts) count += of[static_cast<size_t>(i)];
            if (count) bars.push_back({bar.from + i * width, bar.from + (i + 1) * width, count});
        }
        return bars;
    }

    const std::vector<DurationBar> bars_;  // ascending
};

/// By the begins of parts it is known how many begin before an instant, and near it all are gathered.
class ByBegin : public OrderedOccurrences {
public:
    ByBegin(std::shared_ptr<const OccurrencesByPart> all, bool descending)
        : OrderedOccurrences(std::move(all), descending) {
        const std::vector<ChunkPart>& parts = all_->parts;
        for (size_t i = 0; i < parts.size(); ++i) {
            if (!i || parts[i].lane != parts[i - 1].lane || parts[i].row != parts[i - 1].row) rows_.push_back(i);
            begins_.push_back(all_->rowOf(parts[i]).begin(parts[i].from));
        }
        rows_.push_back(parts.size());
        instants_ = begins_;
        std::sort(instants_.begin(), instants_.end());
        instants_.erase(std::unique(instants_.begin(), instants_.end()), instants_.end());
    }

private:
    static bool earlier(const Occurrence& a, const Occurrence& b) {
        return a.begin != b.begin ? a.begin < b.begin : standsBefore(a, b);
    }
    uint64_t countBefore(const Occurrence& one, uint32_t) const override {
        return countWhere([&](const Occurrence& other, uint32_t) { return earlier(other, one); });
    }
    /// Calls `take(part)` for the parts of each row that hold what begins in [from, to).
    template <class Take>
    void eachPartIn(int64_t from, int64_t to, Take&& take) const {
        for (size_t i = 0; i + 1 < rows_.size(); ++i) {
            size_t at = firstFrom(rows_[i], rows_[i + 1], from);
            if (at > rows_[i]) --at;  // it may reach there
            for (; at < rows_[i + 1] && begins_[at] < to; ++at) take(at);
        }
    }
    size_t firstFrom(size_t first, size_t past, int64_t time) const {
        const auto at = [&](size_t i) { return begins_.begin() + static_cast<std::ptrdiff_t>(i); };
        return static_cast<size_t>(std::lower_bound(at(first), at(past), time) - begins_.begin());
    }
    uint64_t before(int64_t time) const {
        uint64_t count = 0;
        for (size_t i = 0; i + 1 < rows_.size(); ++i) {
            const size_t past = firstFrom(rows_[i], rows_[i + 1], time);
            if (past == rows_[i]) continue;
            ChunkPart last = all_->parts[past - 1];
            last.to = std::clamp(all_->rowOf(last).firstFrom(time), last.from, last.to);
            count += all_->before[past - 1] - all_->before[rows_[i]];
            count += all_->countIn(last);
        }
        return count;
    }
    std::vector<Occurrence> ascending(uint64_t from, uint64_t past) const override {
        const auto end = std::partition_point(instants_.begin(), instants_.end(),
                                              [&](int64_t instant) { return before(instant) < past; });
        auto begin =
            std::partition_point(instants_.begin(), end, [&](int64_t instant) { return before(instant) <= from; });
        if (begin == instants_.begin()) return {};  // damaged: they are others than before
        --begin;
        const int64_t last = end == instants_.end() ? INT64_MAX : *end;
        std::vector<Occurrence> found;
        eachPartIn(*begin, last, [&](size_t part) {
            all_->each(all_->parts[part], [&](const Occurrence& one, uint32_t) {
                if (one.begin >= *begin && one.begin < last) found.push_back(one);
            });
        });
        const uint64_t left = before(*begin);
        return cut(found, from - std::min(from, left), past - std::min(past, left), earlier);
    }

    std::vector<size_t> rows_;       // the first part of each row of markers that has any, and all
    std::vector<int64_t> begins_;    // by part, of its first marker
    std::vector<int64_t> instants_;  // these, each once
};

/// By a text of the path: one group after the other, each as the parts come.
class ByText : public OrderedOccurrences {
public:
    /// Those without a text come last, in either direction.
    template <class TextOf>
    ByText(std::shared_ptr<const OccurrencesByPart> all, bool descending, TextOf&& textOf)
        : OrderedOccurrences(std::move(all), descending), groups_(all_->r.lanes.size()) {
        std::map<std::pair<bool, std::string>, uint32_t> known;
        const auto keyOf = [&](size_t lane, size_t path) {
            const std::string text = lowered(textOf(lane, path));
            return std::pair(text.empty() != descending, text);
        };
        const auto eachPath = [&](auto&& take) {
            for (size_t l = 0; l < groups_.size(); ++l)
                for (size_t p = 0; all_->paths[l].any && p < all_->paths[l].isSite.size(); ++p)
                    if (all_->paths[l].isSite[p]) take(l, p);
        };
        eachPath([&](size_t lane, size_t path) { known[keyOf(lane, path)] = 0; });
        uint32_t number = 0;
        for (auto& [key, group] : known) group = number++;
        for (size_t l = 0; l < groups_.size(); ++l) groups_[l].resize(all_->paths[l].isSite.size());
        eachPath([&](size_t lane, size_t path) { groups_[lane][path] = known[keyOf(lane, path)]; });
        before_.resize(known.size() + 1);
        for (const ChunkPart& part : all_->parts)
            all_->eachCount(part,
                            [&](uint32_t path, uint64_t count) { before_[groups_[part.lane][path] + 1] += count; });
        std::partial_sum(before_.begin(), before_.end(), before_.begin());
    }

private:
    uint64_t countOf(const ChunkPart& part, uint32_t group) const {
        uint64_t count = 0;
        all_->eachCount(part, [&](uint32_t path, uint64_t more) {
            if (groups_[part.lane][path] == group) count += more;
        });
        return count;
    }
    uint64_t countBefore(const Occurrence& one, uint32_t path) const override {
        const uint32_t group = groups_[one.marker.lane][path];
        return countWhere([&](const Occurrence& other, uint32_t ofPath) {
            const uint32_t its = groups_[other.marker.lane][ofPath];
            return its != group ? its < group : standsBefore(other, one);
        });
    }
    std::vector<Occurrence> ascending(uint64_t from, uint64_t past) const override {
        std::vector<Occurrence> out;
        for (uint32_t group = 0; group + 1 < before_.size(); ++group) {
            uint64_t place = before_[group];
            if (before_[group + 1] <= from || place >= past) continue;
            for (const ChunkPart& part : all_->parts) {
                const uint64_t count = countOf(part, group);
                if (place + count > from && place < past) {
                    uint64_t at = place;
                    all_->each(part, [&](const Occurrence& one, uint32_t path) {
                        if (groups_[part.lane][path] != group) return;
                        if (at >= from && at < past) out.push_back(one);
                        ++at;
                    });
                }
                place += count;
            }
        }
        return out;
    }

    std::vector<std::vector<uint32_t>> groups_;  // by lane and its own number of the path
    std::vector<uint64_t> before_;               // by group, and all
};

std::shared_ptr<const OccurrenceList> listOf(std::shared_ptr<const OccurrencesByPart> all, OccurrenceOrder order,
                                             bool descending, const Progress& progress) {
    const Recording& r = all->r;
    switch (order) {
        case OccurrenceOrder::Duration: {
            auto bars = ByDuration::barsOf(*all, progress);
            return bars ? std::make_shared<ByDuration>(std::move(all), descending, std::move(*bars)) : nullptr;
        }
        case OccurrenceOrder::Begin: return std::make_shared<ByBegin>(std::move(all), descending);
        case OccurrenceOrder::Lane:
            return std::make_shared<ByText>(std::move(all), descending,
                                            [&](size_t lane, size_t) { return r.lanes[lane].name; });
        case OccurrenceOrder::Inside:
            return std::make_shared<ByText>(std::move(all), descending, [&](size_t lane, size_t path) {
                const PathId above = r.paths[r.lanes[lane].paths[path]].parent;
                return above ? r.pathText(above) : std::string();
            });
    }
    return nullptr;
}

std::shared_ptr<const OccurrenceList> OrderedOccurrences::inOrder(OccurrenceOrder order, bool descending,
                                                                  const Progress& progress) const {
    return listOf(all_, order, descending, progress);
}

}  // namespace

std::shared_ptr<const OccurrenceList> OccurrenceList::of(std::shared_ptr<const Recording> recording, uint32_t site,
                                                         const Scope& scope, OccurrenceOrder order, bool descending,
                                                         const Progress& progress) {
    longWork("the list of a marker's occurrences");
    return listOf(std::make_shared<OccurrencesByPart>(std::move(recording), site, scope), order, descending, progress);
}

}  // namespace fugato
