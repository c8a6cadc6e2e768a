// SPDX-License-Identifier: GPL-3.0-or-later
#include "scale.h"

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstdio>
#include <cstring>
#include <fugato_layout.hpp>
#include <functional>
#include <memory>
#include <vector>

namespace skerry {

namespace {

using namespace fugato::layout;

constexpr uint64_t kTick = 16'666'667;  // ns between two ticks of the display
constexpr uint32_t kOtherThread = 9000, kProcess = 4000;
constexpr uint64_t kSamplePeriod = 90'000;  // ns; some hundred call stacks a frame
constexpr uint32_t kWorkers = 21, kNames = 2000, kJobs = 60, kDeepest = 20, kDeepRecursion = 900;

/// Small and quick; the quality of its numbers does not matter here.
struct Random {
    uint64_t state;
    uint64_t next() {
        state ^= state << 13;
        state ^= state >> 7;
        return state ^= state << 17;
    }
    uint32_t below(uint32_t limit) { return static_cast<uint32_t>((next() >> 32) * limit >> 32); }
    /// Mostly near `middle`, now and then a few times as long.
    uint64_t around(uint64_t middle) {
        const uint64_t bits = next();
        const uint64_t base = middle / 2 + (middle * (bits & 1023) >> 10);
        return (bits >> 20 & 63) == 0 ? base * 4 : base;
    }
};

struct Node {
    uint32_t site;
    uint64_t self;  // ns, usually
    std::vector<Node> children;
};

enum LaneId : uint32_t {
    Main = 1,
    Render,
    Sound,
    Spray,
    Route,
    Save,
    Loader,
    Net,
    Gpu,
    FirstWorker,
    Core0 = FirstWorker + kWorkers,
    Core1
};

struct LaneOut {
    std::string payload;
    uint32_t count = 0;
    uint64_t first = 0, previous = 0, now = 0;
};

class Scaled {
public:
    Scaled(std::FILE* file, bool system, uint64_t seed)
        : system_(system), random_{seed * 0x9e3779b97f4a7c15ull | 1}, out_([file](std::string_view bytes) {
              return std::fwrite(bytes.data(), 1, bytes.size(), file) == bytes.size();
          }) {}

    bool write(uint64_t markers) {
        FileHeader header{};
        header.clock = static_cast<uint32_t>(ClockKind::Nanoseconds);
        header.nsPerTick = 1;
        header.startedUnixNs = 1'790'000'000'000'000'000;
        good_ = out_.writeHeader(header);
        define();
        for (uint32_t job = 0; job < kJobs; ++job)
            jobs_.push_back(job % 5 == 0 ? tree(kDeepest, 24, 40'000) : tree(3 + random_.below(4), 10, 40'000));
        simulate_ = tree(8, 16, 60'000);
        draw_ = tree(9, 24, 80'000);
        while (good_ && markers_ < markers) frame();
        for (uint32_t lane = 1; lane < lanes_.size(); ++lane) flush(lane);
        return good_ && out_.writeIndex();
    }

private:
    using Out = BlockFile<std::function<bool(std::string_view)>>;

    void define() {
        std::string all;
        uint32_t count = 0;
        const auto add = [&](const auto& definition) {
            appendDefinition(all, definition);
            ++count;
        };
        using View = std::string_view;
        const auto lane = [&](uint32_t id, LaneKind kind, View name, View role) {
            add(LaneFields<View>{id, kind, kind == LaneKind::Thread ? 4000 + id : 0, name, role});
            if (lanes_.size() <= id) lanes_.resize(id + 1);
        };
        lane(Main, LaneKind::Thread, "main", "");
        lane(Render, LaneKind::Thread, "render", "");
        lane(Sound, LaneKind::Thread, "sound", "");
        lane(Spray, LaneKind::Thread, "spray", "");
        lane(Route, LaneKind::Thread, "route", "");
        lane(Save, LaneKind::Thread, "save", "");
        lane(Loader, LaneKind::Thread, "loader", "");
        lane(Net, LaneKind::Thread, "net", "");
        lane(Gpu, LaneKind::Queue, "gpu", "");
        for (uint32_t i = 0; i < kWorkers; ++i)
            lane(FirstWorker + i, LaneKind::Thread, "worker " + std::to_string(i + 1), "worker");

        if (system_) defineSystem(add, lane);
        static const char* const verbs[] = {"Trim",   "Hoist", "Lower", "Steer", "Place", "Count",  "Cut",    "Drift",
                                            "Fold",   "Watch", "Guess", "Reach", "Sound", "Mark",   "Haul",   "Slack",
                                            "Round",  "Drop",  "Light", "Shade", "Blend", "Sort",   "Cull",   "Stir",
                                            "Bend",   "Wet",   "Dry",   "Push",  "Pull",  "Settle", "Smooth", "Scatter",
                                            "Gather", "Carry", "Tilt",  "Swing", "Brace", "Ease",   "Clear",  "Bind"};
        static const char* const things[] = {
            "jib",   "mainsail", "spinnaker", "rudder", "keel",   "buoy", "gull",   "wave",  "swell",   "gust",
            "spray", "foam",     "crowd",     "pier",   "lamp",   "flag", "rope",   "cleat", "mast",    "boom",
            "hull",  "wake",     "skerry",    "shore",  "cloud",  "sun",  "shadow", "reef",  "current", "tide",
            "map",   "score",    "horn",      "clock",  "camera", "lens", "mist",   "rain",  "deck",    "oar",
            "net",   "fish",     "rock",      "sand",   "weed",   "gate", "course", "start", "finish",  "jury"};
        for (uint32_t i = 0; i < kNames; ++i) {
            static const char* const categories[] = {"wind", "sea", "picture", "sound"};
            SiteFields<std::string> site;
            site.id = i + 1;
            site.line = 10 + i % 700;
            site.name = std::string(verbs[i % std::size(verbs)]) + " " + things[i / std::size(verbs)];
            if (i < kOwnNames) site.name = ownNames()[i];
            site.category = categories[i % 4];
            site.file = std::string("race/") + things[i % 50] + ".cpp";
            add(site);
        }
        add(SeriesFields<View>{1, kTick, "race"});
        add(ObjectFields<View>{1, "jobs"});
        add(ObjectFields<View>{2, "scene"});
        add(ObjectFields<View>{3, "display"});
        add(CounterFields<View>{1, {}, "drops", "pieces"});
        add(StateFields<View>{1, "stage"});
        add(KeyFields<View>{1, "boat"});
        add(KeyFields<View>{2, "course"});
        good_ = good_ && out_.writeBlock(BlockType::Definitions, 0, count, 0, 0, all);
    }

    template <class Add, class DefineLane>
    void defineSystem(Add&& add, DefineLane&& lane) {
        using View = std::string_view;
        lane(Core0, LaneKind::Core, "core 0", "");
        lane(Core1, LaneKind::Core, "core 1", "");
        add(ContextFields<View>{"process", std::to_string(kProcess)});
        add(ContextFields<View>{"os samples", "every " + std::to_string(kSamplePeriod / 1000) + " us of running"});
        add(OsThreadFields<View>{kOtherThread, kOtherThread, "ferry"});
        char own[1024];  // its functions give the call stacks names
        const ssize_t size = readlink("/proc/self/exe", own, sizeof own);
        constexpr uint64_t kCode = 0x400000, kBytes = 200'000;
        add(ModuleFields<View>{kCode, kBytes, 0, {own, static_cast<size_t>(std::max<ssize_t>(0, size))}});
        for (std::string& stack : stacks_) {
            uint64_t previous = 0;
            for (int i = 0; i < 12; ++i) {
                const uint64_t address = kCode + random_.below(kBytes);
                char bytes[16];
                stack.append(bytes, putVarint(bytes, zigzag(static_cast<int64_t>(address - previous))));
                previous = address;
            }
        }
    }

    /// What the system says of a frame: main loses its core to another program three times; one worker runs on the
    /// other core.
    void tellSystem(uint64_t start, uint64_t dispatched, uint64_t jobsDone, uint64_t idle) {
        const auto at = [&](uint32_t core, uint64_t time, Kind kind, uint32_t thread, uint64_t a = 0,
                            std::string_view text = {}) {
            startAt(core, time);
            put(core, kind, thread, a, 0, text);
        };
        const auto sample = [&](uint32_t core, uint64_t from, uint64_t to, uint32_t thread) {
            for (uint64_t t = from + kSamplePeriod; t < to; t += kSamplePeriod)
                at(core, t, Kind::Sample, thread, 0, stacks_[random_.below(std::size(stacks_))]);
        };
        const uint32_t main = kProcess + Main, worker = kProcess + FirstWorker;
        at(Core0, start - 10'000, Kind::WakeUp, main);
        at(Core0, start - 5'000, Kind::Switch, main);
        uint64_t from = start;
        for (uint64_t part = 1; part <= 3; ++part) {
            const uint64_t lost = start + (idle - start) * part / 4;
            sample(Core0, from, lost, main);
            at(Core0, lost, Kind::Switch, kOtherThread, 1);
            from = lost + 20'000;
            at(Core0, from, Kind::Switch, main);
        }
        sample(Core0, from, idle, main);
        at(Core0, idle, Kind::Switch, kIdleThread);
        at(Core1, dispatched, Kind::WakeUp, worker, main);
        at(Core1, dispatched + 5'000, Kind::Switch, worker);
        sample(Core1, dispatched + 5'000, jobsDone, worker);
        at(Core1, std::max(jobsDone, dispatched + 10'000), Kind::Switch, kIdleThread);
    }

    static constexpr uint32_t kOwnNames = 12;
    enum Own : uint32_t {
        RaceFrame = 1,
        Simulate,
        Dispatch,
        AwaitJobs,
        DrawRace,
        AwaitScene,
        AwaitTick,
        SplashDrop,
        FindRoute,
        SaveRace,
        LoadPiece,
        SubmitPicture
    };
    static const char* const* ownNames() {
        static const char* const names[kOwnNames] = {"Race frame", "Simulate",    "Dispatch jobs", "Await jobs",
                                                     "Draw race",  "Await scene", "Await tick",    "Splash drop",
                                                     "Find route", "Save race",   "Load piece",    "Submit picture"};
        return names;
    }

    /// A piece of work of about `parts` markers, down to `depth`.
    Node tree(uint32_t depth, uint32_t parts, uint64_t self) {
        Node node{kOwnNames + 1 + random_.below(kNames - kOwnNames), random_.around(self), {}};
        uint32_t left = parts ? parts - 1 : 0;
        if (depth > 1) {
            node.children.push_back(tree(depth - 1, left > 3 && depth < 12 ? left / 2 : left, self));
            left -= std::min(left, left > 3 && depth < 12 ? left / 2 : left);
            for (; left && node.children.size() < 5; left -= std::min(left, 3u))
                node.children.push_back(tree(std::min(3u, depth - 1), std::min(left, 3u), self));
        }
        return node;
    }

    void put(uint32_t lane, Kind kind, uint32_t id, uint64_t a = 0, uint64_t b = 0, std::string_view text = {}) {
        LaneOut& out = lanes_[lane];
        if (!out.count) out.first = out.previous = out.now;
        char bytes[kMostEventBytes + 64];
        const char* end = putEvent(bytes, {out.now, kind, id, a, b, text}, out.previous);
        out.payload.append(bytes, static_cast<size_t>(end - bytes));
        ++out.count;
        if (out.payload.size() >= kBlockBytes) flush(lane);
    }
    void flush(uint32_t lane) {
        LaneOut& out = lanes_[lane];
        if (out.count)
            good_ = good_ && out_.writeBlock(BlockType::Events, lane, out.count, out.first, out.previous, out.payload);
        out.payload.clear();
        out.count = 0;
    }
    void pass(uint32_t lane, uint64_t ns) { lanes_[lane].now += ns; }
    void begin(uint32_t lane, uint32_t site) {
        put(lane, Kind::MarkBegin, site);
        ++markers_;
    }
    void end(uint32_t lane) { put(lane, Kind::MarkEnd, 0); }
    void mark(uint32_t lane, uint32_t site, uint64_t ns) {
        begin(lane, site);
        pass(lane, ns);
        end(lane);
    }
    void beginWait(uint32_t lane, uint32_t object, uint32_t site, uint32_t kind) {
        put(lane, Kind::WaitBegin, object, site, kind);
        ++markers_;
    }
    void startAt(uint32_t lane, uint64_t time) { lanes_[lane].now = std::max(lanes_[lane].now + 1, time); }

    /// Runs a piece of work; `slow` lengthens its own times.
    void run(uint32_t lane, const Node& node, double slow = 1) {
        begin(lane, node.site);
        const auto self = static_cast<uint64_t>(static_cast<double>(random_.around(node.self)) * slow);
        const uint64_t part = self / (node.children.size() + 1);
        pass(lane, part);
        for (const Node& child : node.children) {
            run(lane, child, slow);
            pass(lane, part);
        }
        end(lane);
    }

    void recurse(uint32_t depth) {
        begin(Route, FindRoute);
        pass(Route, 200);
        if (depth > 1) recurse(depth - 1);
        pass(Route, 100);
        end(Route);
    }

    void frame() {
        // The troubles: now and then one part takes much longer, or a lock is held for long.
        const uint32_t trouble = random_.below(120);
        const bool slowDraw = trouble == 0, slowJob = trouble == 1, manyParts = trouble == 2, heldScene = trouble == 3;
        const uint64_t start = std::max(lanes_[Main].now + 1, (lanes_[Main].now / kTick + 1) * kTick);
        lanes_[Main].now = start;
        if (number_ % 2000 == 0) {
            static const char* const stages[] = {"Harbour", "Start", "Race", "Finish"};
            put(Main, Kind::StateSet, 1, 0, 0, stages[number_ / 2000 % 4]);
        }
        put(Main, Kind::FrameBegin, 1);
        begin(Main, RaceFrame);
        if (number_ % 64 == 0) {
            put(Main, Kind::Argument, 1, zigzag(static_cast<int64_t>(number_ / 64 % 12)), 0);
            put(Main, Kind::Argument, 2, 0, 2, number_ % 128 ? "outer skerries" : "inner sound, twice round");
        }
        begin(Main, Simulate);
        for (int i = 0, parts = manyParts ? 20 : 2; i < parts; ++i) run(Main, simulate_);
        end(Main);
        begin(Main, Dispatch);
        const uint64_t link = ++links_;
        put(Main, Kind::LinkOut, 0, link);
        pass(Main, 5'000);
        end(Main);

        const uint64_t dispatched = lanes_[Main].now;
        uint64_t lastJob = dispatched, lastLink = 0;
        for (uint32_t worker = FirstWorker; worker < FirstWorker + kWorkers; ++worker) {
            startAt(worker, dispatched + random_.below(30'000));
            const uint64_t before = markers_;
            for (bool first = true; markers_ - before < 22; first = false) {
                const Node& job = jobs_[random_.below(kJobs)];
                if (first) put(worker, Kind::LinkIn, 0, link);
                run(worker, job, slowJob && worker == FirstWorker + 3 && first ? 40 : 1);
                pass(worker, random_.below(4'000));
            }
            if (lanes_[worker].now > lastJob) {
                lastJob = lanes_[worker].now;
                lastLink = ++links_;
                put(worker, Kind::LinkOut, 0, lastLink);
            }
        }
        if (lastJob > lanes_[Main].now) {
            beginWait(Main, 1, AwaitJobs, 3);
            lanes_[Main].now = lastJob + 2'000;
            put(Main, Kind::WaitEnd, 0, lastLink);
        }
        if (heldScene) {  // the save thread holds the scene
            startAt(Save, lanes_[Main].now - 200'000);
            begin(Save, SaveRace);
            put(Save, Kind::Taken, 2);
            pass(Save, 12'000'000 + random_.below(4'000'000));
            put(Save, Kind::Given, 2);
            end(Save);
            beginWait(Main, 2, AwaitScene, 1);
            lanes_[Main].now = lanes_[Save].now + 1'000;
            put(Main, Kind::WaitEnd, 0, 0);
        }
        begin(Main, DrawRace);
        run(Main, draw_, slowDraw ? 16 : 1);
        end(Main);
        end(Main);
        put(Main, Kind::Count, 1, doubleBits(100 + static_cast<double>(random_.below(60))));
        if (trouble < 4) put(Main, Kind::Point, 2, 0, 0, "the picture stood still");
        if (system_) tellSystem(start, dispatched, lanes_[FirstWorker].now, lanes_[Main].now);
        const uint64_t due = (lanes_[Main].now / kTick + 1) * kTick;
        beginWait(Main, 3, AwaitTick, 7);
        lanes_[Main].now = due - 1;
        put(Main, Kind::WaitEnd, 0, 0);
        put(Main, Kind::FrameEnd, 1);

        beside(start);
        ++number_;
    }

    /// What the other lanes do in a frame, whoever waits for them.
    void beside(uint64_t start) {
        for (int i = 0; i < 3; ++i) {
            startAt(Render, start + static_cast<uint64_t>(i) * 3'000'000);
            run(Render, draw_);
        }
        startAt(Gpu, lanes_[Render].now);
        for (int i = 0; i < 20; ++i) mark(Gpu, SubmitPicture, random_.around(200'000));
        startAt(Sound, start + 500'000);
        for (int i = 0; i < 30; ++i) mark(Sound, kOwnNames + 1 + static_cast<uint32_t>(i), random_.around(40'000));
        startAt(Spray, start);
        for (int i = 0; i < 100; ++i) mark(Spray, SplashDrop, random_.around(60'000));
        startAt(Route, start + 1'000'000);
        if (number_ == 300) {
            recurse(kDeepRecursion);
        } else {
            recurse(1 + random_.below(18));
        }
        startAt(Net, start + 2'000'000);
        for (int i = 0; i < 8; ++i) mark(Net, 100 + static_cast<uint32_t>(i), random_.around(20'000));
        startAt(Loader, start);
        const int pieces = number_ % 1000 < 20 ? 400 : 4;  // bursts
        for (int i = 0; i < pieces; ++i) mark(Loader, LoadPiece, random_.around(20'000));
    }

    static uint64_t doubleBits(double value) {
        uint64_t bits;
        std::memcpy(&bits, &value, sizeof bits);
        return bits;
    }

    const bool system_;
    std::string stacks_[256];
    Random random_;
    Out out_;
    std::vector<LaneOut> lanes_;
    std::vector<Node> jobs_;
    Node simulate_{}, draw_{};
    uint64_t markers_ = 0, number_ = 0, links_ = 0;
    bool good_ = true;
};

}  // namespace

bool writeScaled(const std::string& path, uint64_t markers, bool system, uint64_t seed, bool overwrite,
                 std::string& problem) {
    const std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(std::fopen(path.c_str(), overwrite ? "wb" : "wbx"),
                                                               std::fclose);
    if (file) std::setvbuf(file.get(), nullptr, _IOFBF, 1 << 20);
    if (!file || !Scaled(file.get(), system, seed).write(markers) || std::fflush(file.get()) != 0) {
        problem = "cannot write " + path + ": " + std::strerror(errno);
        return false;
    }
    return true;
}

}  // namespace skerry
