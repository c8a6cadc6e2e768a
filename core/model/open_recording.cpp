// SPDX-License-Identifier: GPL-3.0-or-later
#include "open_recording.h"

#include <sys/stat.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <numeric>
#include <thread>

#include "format/binary_reader.h"
#include "format/rescue.h"
#include "recording_index.h"

namespace fugato {

namespace {

constexpr std::chrono::milliseconds kBetweenEarly{700};

class IntoLane final : public LaneSink {
public:
    explicit IntoLane(LaneBuilder& lane) : lane_(lane) {}
    void events(std::span<const Event> events) override {
        for (const Event& event : events) lane_.event(event);
    }

private:
    LaneBuilder& lane_;
};

Failure cancelledOpening(const std::string& name) { return {"Opening " + name + " was cancelled.", true}; }

/// Reads the lanes of a file into a builder, several at once.
class LaneReading {
public:
    LaneReading(const BinaryReader& reader, ModelBuilder& builder, const Progress& progress, const OpenOptions& options)
        : reader_(reader),
          builder_(builder),
          progress_(progress),
          early_(options.early),
          threads_(options.threads ? options.threads : std::max(1u, std::thread::hardware_concurrency())),
          damages_(reader.lanes().size()),
          closed_(reader.lanes().size()) {
        for (const LaneBlocks& lane : reader.lanes()) builders_.push_back(&builder.lane(lane.lane));
    }

    /// Returns false where it was cancelled.
    bool run(Damage& damage) {
        const std::vector<LaneBlocks>& lanes = reader_.lanes();
        // Those with frames first, since everything is seen by frames; then the largest, so that the cores
        // finish together.
        std::vector<bool> hasFrames(lanes.size());
        if (early_)
            for (size_t i = 0; i < lanes.size(); ++i) hasFrames[i] = beginsWithFrames(lanes[i]);
        order_.resize(lanes.size());
        std::iota(order_.begin(), order_.end(), size_t{0});
        std::stable_sort(order_.begin(), order_.end(), [&](size_t x, size_t y) {
            return hasFrames[x] != hasFrames[y] ? hasFrames[x] : lanes[x].bytes > lanes[y].bytes;
        });
        framesFirst_ = static_cast<size_t>(std::count(hasFrames.begin(), hasFrames.end(), true));
        if (progress_ && !progress_(0)) return false;
        tellEarly(true);
        std::vector<std::thread> helpers;
        for (unsigned i = 1; i < std::min<size_t>(threads_, lanes.size()); ++i)
            helpers.emplace_back([this] { work(false); });
        work(true);
        while (!stop_ && read_ < reader_.eventBytes() && !helpers.empty()) {  // the others still read
            std::this_thread::sleep_for(std::chrono::milliseconds(5));
            tell();
        }
        for (std::thread& helper : helpers) helper.join();
        if (!stop_) tell();  // the others may have read the last of it
        for (const Damage& of : damages_) addDamage(damage, of);
        return !stop_;
    }

private:
    bool beginsWithFrames(const LaneBlocks& lane) const {
        struct Seen final : LaneSink {
            bool frames = false;
            void events(std::span<const Event> events) override {
                for (const Event& event : events)
                    frames = frames || event.kind == EventKind::FrameBegin || event.kind == EventKind::FrameTick;
            }
        } seen;
        Damage ignored;
        reader_.readLane(lane, seen, ignored, [](uint64_t) { return false; });  // its first block
        return seen.frames;
    }

    void work(bool tells) {
        for (size_t at; !stop_ && (at = next_++) < order_.size();) {
            const size_t lane = order_[at];
            IntoLane into(*builders_[lane]);
            reader_.readLane(reader_.lanes()[lane], into, damages_[lane], [&](uint64_t bytes) {
                read_ += bytes;
                if (tells) tell();
                return !stop_.load();
            });
            if (stop_) return;
            builders_[lane]->close();
            closed_[lane].store(true, std::memory_order_release);
        }
    }

    /// Only on the thread that opens.
    void tell() {
        const auto whole = static_cast<double>(std::max<uint64_t>(1, reader_.eventBytes()));
        if (progress_ && !progress_(static_cast<double>(read_) / whole)) stop_ = true;
        tellEarly(false);
    }

    void tellEarly(bool atOnce) {
        if (!early_ || stop_) return;
        const auto now = std::chrono::steady_clock::now();
        size_t closed = 0;
        for (const auto& lane : closed_) closed += lane.load(std::memory_order_acquire);
        bool frames = !framesTold_ && framesFirst_ > 0;  // all lanes with frames are there for the first time
        for (size_t i = 0; i < framesFirst_ && frames; ++i) frames = closed_[order_[i]].load();
        if (!atOnce && !frames && (closed == toldClosed_ || now - toldAt_ < kBetweenEarly)) return;
        framesTold_ = framesTold_ || frames;
        toldClosed_ = closed;
        toldAt_ = now;
        std::vector<std::pair<uint32_t, std::vector<Lane::Unread>>> unread;
        for (size_t i = 0; i < reader_.lanes().size(); ++i) {
            if (closed_[i].load(std::memory_order_acquire)) continue;
            auto& [id, blocks] = unread.emplace_back();
            id = reader_.lanes()[i].lane;
            for (const uint32_t block : reader_.lanes()[i].blocks) {
                const auto [begin, end] = reader_.timesOf(reader_.directory().blocks[block]);
                blocks.push_back({begin, end, reader_.directory().blocks[block].count});
            }
        }
        early_(builder_.soFar(unread));
    }

    const BinaryReader& reader_;
    ModelBuilder& builder_;
    const Progress& progress_;
    const std::function<void(std::shared_ptr<const Recording>)>& early_;
    const unsigned threads_;
    std::vector<LaneBuilder*> builders_;
    std::vector<size_t> order_;
    std::vector<Damage> damages_;
    std::vector<std::atomic<bool>> closed_;
    std::atomic<size_t> next_{0};
    std::atomic<uint64_t> read_{0};
    std::atomic<bool> stop_{false};
    size_t framesFirst_ = 0, toldClosed_ = 0;
    bool framesTold_ = false;
    std::chrono::steady_clock::time_point toldAt_;
};

Result<std::shared_ptr<Recording>> build(ByteSource& source, const std::string& name, const Progress& progress,
                                         const OpenOptions& options, std::shared_ptr<Storage> storage) {
    ModelBuilder builder(std::move(storage));
    if (options.before) builder.keepPathsOf(*options.before);
    if (!looksBinary(source)) {
        auto damage = readRecording(source, name, builder, progress);
        if (!damage) return damage.failure();
        return builder.finish(std::move(*damage));
    }
    auto reader = BinaryReader::open(source, name, builder);
    if (!reader) return reader.failure();
    Damage damage = (*reader)->damage();
    if (!LaneReading(**reader, builder, progress, options).run(damage)) return cancelledOpening(name);
    return builder.finish(std::move(damage));
}

}  // namespace

OpenOptions usualOpenOptions() {
    OpenOptions options;
    options.indexFolder = indexFolder();
    return options;
}

Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress, const OpenOptions& options) {
    OpenOptions plain = options;
    plain.early = {};
    auto built = build(source, name, progress, plain, Storage::inMemory());
    if (!built) return built.failure();
    return std::shared_ptr<const Recording>(*built);
}

Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress,
                                                       const OpenOptions& options) {
    auto opened = openRecordingSource(path);
    if (!opened) return opened.failure();
    const bool large = !options.indexFolder.empty() && opened->source->size() >= options.indexFromBytes;
    const uint64_t state = large && !opened->beingWritten && opened->note.empty() ? stateOfFile(path) : 0;
    const std::string indexPath = large ? indexPathFor(options.indexFolder, path) : std::string();
    if (state)
        if (auto known = loadIndex(indexPath, state)) {
            known->storage->keepWithin(options.memoryBytes);
            return std::shared_ptr<const Recording>(known);
        }

    std::shared_ptr<Storage> storage;
    std::string indexNote;
    if (large) {
        std::error_code error;
        std::filesystem::create_directories(options.indexFolder, error);
        auto made = Storage::inFolder(options.indexFolder);
        if (made) {
            storage = *made;
            storage->keepWithin(options.memoryBytes);
        } else {
            indexNote = made.failure().sentence + " So this recording is kept in memory, whatever its size, and " +
                        "opening it takes as long next time.";
        }
    }
    if (!storage) storage = Storage::inMemory();
    OpenOptions watched = options;
    if (!large) watched.early = {};
    auto built = build(*opened->source, path, progress, watched, storage);
    if (!built) return built.failure();
    const std::shared_ptr<Recording>& recording = *built;
    if (storage->spilled())
        indexNote = "The disk of " + options.indexFolder +
                    " is full, so part of this recording is kept in memory and " +
                    "opening it takes as long next time. Free some space there.";
    recording->indexNote = indexNote;
    if (state && completeIndex(*recording, state) && stateOfFile(path) == state && storage->giveName(indexPath)) {
        recording->keptAt = indexPath;
        recording->keptState = state;
        limitIndexFolder(options.indexFolder, options.indexFolderBytes, indexPath);
    }
    noteOpening(recording->damage, *opened);
    recording->growing = opened->beingWritten;
    return std::shared_ptr<const Recording>(recording);
}

}  // namespace fugato
