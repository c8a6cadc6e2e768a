// SPDX-License-Identifier: GPL-3.0-or-later
#include "open_recording.h"

#include <algorithm>
#include <atomic>
#include <numeric>
#include <thread>

#include "format/binary_reader.h"
#include "format/rescue.h"

namespace fugato {

namespace {

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

/// Fills the lanes of `builder`, each by one thread. Returns false where `progress` cancelled it.
bool readLanes(const BinaryReader& reader, ModelBuilder& builder, Damage& damage, const Progress& progress,
               unsigned threads) {
    const std::vector<LaneBlocks>& lanes = reader.lanes();
    std::vector<LaneBuilder*> builders;
    for (const LaneBlocks& lane : lanes) builders.push_back(&builder.lane(lane.lane));
    std::vector<size_t> order(lanes.size());  // the largest first, so that the cores finish together
    std::iota(order.begin(), order.end(), size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](size_t x, size_t y) { return lanes[x].bytes > lanes[y].bytes; });

    std::vector<Damage> damages(lanes.size());
    std::atomic<size_t> next{0};
    std::atomic<uint64_t> read{0};
    std::atomic<bool> stop{false};
    const auto whole = static_cast<double>(std::max<uint64_t>(1, reader.eventBytes()));
    const auto work = [&](bool tells) {
        for (size_t at; !stop && (at = next++) < order.size();) {
            const size_t lane = order[at];
            IntoLane into(*builders[lane]);
            reader.readLane(lanes[lane], into, damages[lane], [&](uint64_t bytes) {
                const uint64_t now = read += bytes;
                if (tells && progress && !progress(static_cast<double>(now) / whole)) stop = true;
                return !stop;
            });
            if (!stop) builders[lane]->close();
        }
    };
    std::vector<std::thread> helpers;
    for (unsigned i = 1; i < std::min<size_t>(threads, lanes.size()); ++i) helpers.emplace_back(work, false);
    work(true);
    while (!stop && progress && read < reader.eventBytes() && !helpers.empty()) {  // the others still read
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
        if (!progress(static_cast<double>(read) / whole)) stop = true;
    }
    for (std::thread& helper : helpers) helper.join();
    for (const Damage& of : damages) addDamage(damage, of);
    return !stop;
}

}  // namespace

Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress, const OpenOptions& options) {
    ModelBuilder builder;
    if (!looksBinary(source)) {
        auto damage = readRecording(source, name, builder, progress);
        if (!damage) return damage.failure();
        return builder.finish(std::move(*damage));
    }
    auto reader = BinaryReader::open(source, name, builder);
    if (!reader) return reader.failure();
    Damage damage = (*reader)->damage();
    const unsigned threads = options.threads ? options.threads : std::max(1u, std::thread::hardware_concurrency());
    if (!readLanes(**reader, builder, damage, progress, threads)) return cancelledOpening(name);
    return builder.finish(std::move(damage));
}

Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress,
                                                       const OpenOptions& options) {
    auto opened = openRecordingSource(path);
    if (!opened) return opened.failure();
    auto recording = openRecording(*opened->source, path, progress, options);
    if (!recording || opened->note.empty()) return recording;
    auto noted = std::make_shared<Recording>(**recording);
    noteOpening(noted->damage, *opened);
    return std::shared_ptr<const Recording>(noted);
}

}  // namespace fugato
