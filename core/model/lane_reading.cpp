// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_reading.h"

#include <algorithm>
#include <exception>
#include <numeric>
#include <thread>

#include "core/store/side_by_side.h"

namespace fugato {

namespace {

constexpr std::chrono::milliseconds kBetweenEarly{700}, kBetweenTelling{1};
constexpr uint64_t kWorthHelpers = 1 << 20;  // bytes

class IntoLane final : public LaneSink {
public:
    explicit IntoLane(LaneBuilder& lane) : lane_(lane) {}
    void events(std::span<const Event> events) override { lane_.events(events); }

private:
    LaneBuilder& lane_;
};

}  // namespace

LaneReading::LaneReading(const BinaryReader& reader, ModelBuilder& builder, const Progress& progress, Way way)
    : reader_(reader),
      builder_(builder),
      progress_(progress),
      way_(std::move(way)),
      damages_(reader.lanes().size()),
      closed_(reader.lanes().size()) {
    for (const LaneBlocks& lane : reader.lanes()) builders_.push_back(&builder.lane(lane.lane));
}

bool LaneReading::run(Damage& damage) {
    const std::vector<LaneBlocks>& lanes = reader_.lanes();
    // Those with frames first, since everything is seen by frames; then the largest, so that the cores
    // finish together.
    std::vector<bool> hasFrames(lanes.size());
    if (way_.early)
        for (size_t i = 0; i < lanes.size(); ++i) hasFrames[i] = beginsWithFrames(lanes[i]);
    order_.resize(lanes.size());
    std::iota(order_.begin(), order_.end(), size_t{0});
    std::stable_sort(order_.begin(), order_.end(), [&](size_t x, size_t y) {
        return hasFrames[x] != hasFrames[y] ? hasFrames[x] : lanes[x].bytes > lanes[y].bytes;
    });
    framesFirst_ = static_cast<size_t>(std::count(hasFrames.begin(), hasFrames.end(), true));
    if (progress_ && !progress_(0)) return false;
    tellEarly(true);
    // Little is read sooner than a helper comes.
    const unsigned cores = way_.threads ? way_.threads : std::max(1u, std::thread::hardware_concurrency());
    const unsigned threads = reader_.eventBytes() < kWorthHelpers ? 1 : cores;
    Helpers helpers;
    working_ = std::max<size_t>(1, std::min<size_t>(threads, lanes.size()));
    const auto one = [this](bool tells) {
        struct Done {
            std::atomic<size_t>& working;
            std::atomic<bool>& stop;
            const int thrown = std::uncaught_exceptions();
            ~Done() {
                if (std::uncaught_exceptions() > thrown) stop = true;  // the others need not go on
                --working;
            }
        } const done{working_, stop_};
        work(tells);
    };
    for (size_t i = working_; i > 1; --i) helpers.start([&one] { one(false); });
    helpers.run([&one] { one(true); });
    while (!stop_ && working_ > 0 && helpers.size()) {  // the others still read
        std::this_thread::sleep_for(kBetweenTelling);
        helpers.run([this] { tell(); });
    }
    helpers.finish();
    if (!stop_) tell();  // the others may have read the last of it
    for (const Damage& of : damages_) addDamage(damage, of);
    return !stop_;
}

bool LaneReading::beginsWithFrames(const LaneBlocks& lane) const {
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

void LaneReading::work(bool tells) {
    for (size_t at; !stop_ && (at = next_++) < order_.size();) {
        const size_t lane = order_[at];
        IntoLane into(*builders_[lane]);
        reader_.readLane(reader_.lanes()[lane], into, damages_[lane], [&](uint64_t bytes) {
            read_ += bytes;
            if (tells) tell();
            return !stop_.load();
        });
        if (stop_) return;
        if (way_.closes) builders_[lane]->close();
        closed_[lane].store(true, std::memory_order_release);
    }
}

/// Only on the thread that runs.
void LaneReading::tell() {
    const auto whole = static_cast<double>(std::max<uint64_t>(1, reader_.eventBytes()));
    if (progress_ && !progress_(static_cast<double>(read_) / whole)) stop_ = true;
    tellEarly(false);
}

void LaneReading::tellEarly(bool atOnce) {
    if (!way_.early || stop_) return;
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
    way_.early(builder_.soFar(unread));
}

}  // namespace fugato
