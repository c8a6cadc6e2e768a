// SPDX-License-Identifier: GPL-3.0-or-later
#include "regatta.h"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <deque>
#include <fugato_mutex.hpp>
#include <map>
#include <random>
#include <utility>

#include "call_stacks.h"
#include "race.h"

namespace skerry {

const std::vector<Trouble>& allTroubles() {
    static const std::vector<Trouble> list = {
        {"autosave",
         "autosave holds the scene lock while it writes",
         "autosave",
         {"Autosave", "Replay", "Flush"},
         "waiting"},
        {"gust",
         "a gust rebuilds the wind field far more often",
         "main",
         {"Race frame", "Simulate", "Wind", "Rebuild field"},
         "more_calls"},
        {"rounding",
         "rounding a mark loads sails on the main thread for the first time",
         "main",
         {"Race frame", "Rounding", "Load sails"},
         "unusual"},
        {"gulls", "gulls plan their way slowly", "main", {"Race frame", "Simulate", "Gulls", "Plan path"}, "slower"},
        {"spray", "spray is drawn over itself many times on the GPU", "GPU graphics", {"Scene", "Spray"}, "slower"},
        {"log",
         "collisions write far too many log lines",
         "main",
         {"Race frame", "Simulate", "Collisions", "Write log line"},
         "more_calls"},
        {"table",
         "ranking every leg takes a worker for several frames; a later frame needs the result",
         "worker",
         {"Rank all legs"},
         "unusual"},
    };
    return list;
}

namespace {

FUG_DECLARED_SITE(rescue, "Rescue boat", "physics", "Fetches the crew of a boat that stands on its bow");

constexpr double kMs = 1e6;
constexpr float kOnItsBow = 0.8f;  // pitch
constexpr int64_t kTickNs = 16'666'667;
constexpr int64_t kSoundNs = 10'666'667;  // 512 samples at 48 kHz

/// When a trouble is at work: from `first` s on, every `every` s, for `frames` frames.
struct Rhythm {
    double first, every;
    int frames;
};
const std::map<std::string, Rhythm> kRhythms = {
    {"autosave", {3.1, 4.3, 1}}, {"gust", {2.2, 9.7, 12}}, {"rounding", {4.9, 21.0, 1}}, {"gulls", {6.3, 13.9, 6}},
    {"spray", {7.9, 15.1, 16}},  {"log", {5.6, 17.3, 5}},  {"table", {8.9, 18.9, 1}},
};

std::atomic<bool> endAsked{false};

fug::Series raceFrames("race", kTickNs), pictureFrames("picture", kTickNs), soundFrames("sound", kSoundNs);

/// The simulated GPU's copy engine: it tells the times of its work by a clock of its own, which starts
/// anywhere, counts in steps of 8 ns and runs a little too fast.
class CopyEngine {
public:
    void tell(int64_t askedNs, int64_t lengthNs, int64_t bytes, bool first) {
        if (first || askedNs - synced_ > 500'000'000) {  // clocks drift apart: told again now and then
            fug_clock_sync(clock_, ticksAt(askedNs), static_cast<uint64_t>(hostTicks(askedNs)));
            synced_ = askedNs;
        }
        const int64_t beginNs = std::max(askedNs, free_);
        free_ = beginNs + lengthNs;
        const fug::InLane in(lane_);
        fug_at(ticksAt(beginNs));
        {
            FUG_SITE_HERE(site, "Copy drops", "gpu", "Where the drops are, for the next picture");
            const fug::Mark mark(site);
            FUG_ARGUMENT("bytes", bytes);
            fug_at(ticksAt(free_));
        }
        fug_at_now();
    }
    /// What fug_now() said, or would have said, at a time of the runtime.
    void startAt(int64_t ns, double ticksPerNs) {
        zeroTicks_ = static_cast<double>(fug_now()) - static_cast<double>(ns) * ticksPerNs;
        ticksPerNs_ = ticksPerNs;
    }

private:
    static uint64_t ticksAt(int64_t ns) {
        return 7'000'000 + static_cast<uint64_t>(static_cast<double>(ns) / 8 * 1.00003);
    }
    double hostTicks(int64_t ns) const { return zeroTicks_ + static_cast<double>(ns) * ticksPerNs_; }
    const uint32_t clock_ = fug_clock("copy engine", 8);
    const fug::Lane lane_{"GPU copy", "GPU copy", FUG_LANE_QUEUE, clock_};
    int64_t synced_ = 0, free_ = 0;
    double zeroTicks_ = 0, ticksPerNs_ = 1;
};

class Regatta {
public:
    Regatta(Runtime& runtime, const Settings& settings)
        : runtime_(runtime),
          settings_(settings),
          race_(settings.seed),
          sailor_(static_cast<unsigned>(settings.seed * 40503 + 7)),
          spray_(settings.seed),
          frameCount_(static_cast<uint32_t>(settings.seconds * 60)) {
        for (const Trouble& trouble : allTroubles()) planted_.push_back({trouble.name, {}});
        if (!runtime_.isVirtual()) calibrate();
    }

    std::vector<Planted> run() {
        runtime_.start("main", [this] { mainLoop(); });
        runtime_.start("render", [this] { renderLoop(); });
        runtime_.start("worker 1", [this] { workerLoop("worker 1"); });
        runtime_.start("worker 2", [this] { workerLoop("worker 2"); });
        runtime_.start("autosave", [this] { autosaveLoop(); });
        runtime_.start("audio", [this] { audioLoop(); });
        runtime_.start(
            "GPU graphics", [this] { queueLoop("GPU graphics", graphics_); }, true);
        runtime_.start(
            "GPU compute", [this] { queueLoop("GPU compute", compute_); }, true);
        runtime_.join();
        return planted_;
    }

private:
    // ---- computing --------------------------------------------------------------------------

    /// Runs `kernel(rounds)` so often that it takes about `ns` here (measured at the start); under
    /// the virtual clock once, and charged as `ns`.
    template <class Kernel>
    void work(double ns, const char* name, Kernel&& kernel) {
        if (runtime_.isVirtual()) {
            runtime_.beginComputing(static_cast<int64_t>(ns));
            kernel(1);
            runtime_.endComputing();
        } else {
            kernel(std::max(1, static_cast<int>(ns / nsPerRound_[name])));
        }
    }
    /// Work in parts with a fine marker each, as engines mark the things they go through.
    template <class Kernel>
    void inParts(int parts, const char* part, double ns, const char* name, Kernel&& kernel) {
        if (settings_.detail < 1) return work(ns, name, kernel);
        fug_site& site = fineSites_.at(part);
        for (int i = 0; i < parts; ++i) {
            const fug::Mark mark(site);
            work(ns / parts, name, kernel);
        }
    }
    template <class Kernel>
    void measure(const char* name, Kernel&& kernel) {
        const auto begin = std::chrono::steady_clock::now();
        kernel(64);
        nsPerRound_[name] = std::max(
            20.0, std::chrono::duration<double, std::nano>(std::chrono::steady_clock::now() - begin).count() / 64);
    }
    void calibrate() {
        const uint64_t ticks = fug_now();
        const int64_t from = runtime_.now();
        Race scratch(7);
        std::vector<float> samples(512);
        measure("wind", [&](int n) { scratch.wind.rebuild(0.01f, n, 0); });
        measure("hulls", [&](int n) { scratch.hulls(0.01f, n); });
        measure("cloth", [&](int n) { scratch.cloth(0, 3, 0.01f, n); });
        measure("collisions", [&](int n) { sink_ = static_cast<float>(scratch.collisions(n)); });
        measure("flock", [&](int n) { scratch.flock(0.01f, n); });
        measure("plan", [&](int n) { sink_ = scratch.planPath(1, n); });
        measure("crowd", [&](int n) { scratch.crowd(n); });
        measure("cull", [&](int n) { sink_ = static_cast<float>(scratch.cull(300, n)); });
        measure("rank", [&](int n) { sink_ = rank(scratch.standings(), n); });
        measure("sound", [&](int n) { sink_ = mixSound(samples, 1, n); });
        measure("bytes", [&](int n) { hash(n); });
        ticksPerNs_ = static_cast<double>(fug_now() - ticks) / static_cast<double>(runtime_.now() - from);
    }
    /// Byte work: packing, decoding, encoding draw lists.
    void hash(int rounds) {
        static thread_local std::vector<uint8_t> bytes(2048, 7);
        uint32_t sum = 2166136261u;
        for (int i = 0; i < rounds; ++i) {
            SKERRY_TELL_PLACE();
            for (uint8_t& byte : bytes) {
                sum = (sum ^ byte) * 16777619u;
                byte = static_cast<uint8_t>(sum >> 13);
            }
        }
    }
    void device(double ns) {  // the simulated GPU's own time
        runtime_.elapse(static_cast<int64_t>(ns));
    }

    /// The sea grows and falls, and the harbour is quieter than the finish: usual frames differ too.
    double sea(uint32_t n) const { return 1 + 0.22 * std::sin(n / 410.0) + 0.08 * std::sin(n / 37.0); }
    double bustle(uint32_t n) const { return n < raceFrom_ ? 0.6 : n < finishFrom_ ? 1.0 : 1.7; }

    // ---- troubles ---------------------------------------------------------------------------

    bool has(const char* trouble) const { return settings_.troubles.count(trouble) > 0; }

    /// Whether a trouble is at work in a frame; notes it in the truth where `plant`.
    bool troubled(const char* trouble, uint32_t frame, bool plant = true) {
        if (!has(trouble)) return false;
        const Rhythm& rhythm = kRhythms.at(trouble);
        const auto first = static_cast<uint32_t>(rhythm.first * 60), every = static_cast<uint32_t>(rhythm.every * 60);
        if (frame < first || (frame - first) % every >= static_cast<uint32_t>(rhythm.frames)) return false;
        if (plant)
            for (Planted& planted : planted_)
                if (planted.trouble == trouble) planted.frames.push_back(frame);
        return true;
    }

    // ---- the threads ------------------------------------------------------------------------

    void mainLoop() {
        fug_name_thread("main", "loop", FUG_LANE_THREAD);
        const fug::State stage("stage");
        const fug::Counter particles("spray drops", "drops", 1500), drawn("draw calls", "calls"),
            touching("boats touching", "boats");
        const fug::Object tick("next tick");
        for (frame_ = 0; frame_ < frameCount_ && !endAsked; ++frame_) {
            const uint32_t n = frame_;
            if (n == 0) stage.set("Harbour");
            if (n == raceFrom_ && n) stage.set("Race");
            if (n == finishFrom_ && n) stage.set("Finish and replay");
            {
                const fug::Frame frame(raceFrames);
                FUG_MARK("Race frame", "loop", "One turn of the race's main loop");
                {
                    FUG_MARK("Read input", "input", "Tiller and sheets of the sailor in front of the screen");
                    readInput(n);
                    work(0.06 * kMs, "bytes", [&](int r) { hash(r); });
                }
                reportPosition(n);
                simulate(n, touching);
                rounding(n);
                if (const uint32_t asked = tableAsked_; asked && n == asked + 2) {
                    FUG_MARK("Show race table", "table", "Places and times of every leg");
                    FUG_SITE_HERE(waitSite, "Wait for ranking", "table", "The ranking asked for two frames ago");
                    tableReady_.waitFor(++tableShown_, waitSite);
                    work(0.3 * kMs, "bytes", [&](int r) { hash(r); });
                }
                recordReplay();
                drawList(n, drawn);
            }
            particles.set(static_cast<double>(drops_.load()));
            FUG_WAIT(wait, tick, FUG_WAIT_PACING, "Wait for tick", "loop", "Until the next sixtieth of a second");
            const int64_t now = runtime_.now(), due = (static_cast<int64_t>(n) + 1) * kTickNs + lag_;
            if (now > due)
                lag_ += now - due;  // late: the following frames keep their distance from here
            else
                runtime_.sleepUntil(due);
        }
        stop_ = true;
        jobs_.close();
        pictures_.close();
    }

    // ---- what is told beside markers --------------------------------------------------------

    /// The sailor trims now and then, and looks at the race table.
    void readInput(uint32_t n) {
        constexpr const char* kTrims[] = {"tiller to port", "tiller to starboard", "haul in the sheet",
                                          "ease the sheet"};
        constexpr uint32_t kSeldom = 150;  // frames from one to the next, in the mean
        if (sailor_() % kSeldom == 0) fug_input(kTrims[sailor_() % std::size(kTrims)]);
        if (troubled("table", n, false)) fug_input("key T: race table");
    }

    /// Position reports to the race office: asked for here, packed by a worker, answered to the render
    /// thread a while later; they overlap, and now and then one is not answered.
    void reportPosition(uint32_t n) {
        if (n % 20) return;
        FUG_SITE_HERE(report, "Position report", "network", "Tells the race office where the boats are");
        const fug::Operation operation(report);
        const fugato::Lock guard(reportsMutex_);
        reports_.push_back({n + 30, operation, n % 140 == 0});
    }
    void packReports() {
        FUG_SITE_HERE(packed, "Packed", "network");
        const fugato::Lock guard(reportsMutex_);
        for (Report& report : reports_)
            if (!std::exchange(report.packed, true)) report.operation.step(packed);
    }
    void answerReports(uint32_t n) {
        const fugato::Lock guard(reportsMutex_);
        while (!reports_.empty() && reports_.front().due <= n) {
            const Report& report = reports_.front();
            if (report.fails) fug_point_code(FUG_ERROR, 110, "The race office does not answer");
            report.operation.end(report.fails ? 110 : 0, report.fails ? "no answer" : nullptr);
            reports_.pop_front();
        }
    }

    /// What the sailor sees, small: sea, boats and their wakes.
    void takePicture(const std::vector<Vec>& bows) {
        constexpr uint32_t kWidth = 96, kHeight = 60;
        std::vector<uint32_t> pixels(kWidth * kHeight);
        for (uint32_t y = 0; y < kHeight; ++y)
            for (uint32_t x = 0; x < kWidth; ++x)
                pixels[y * kWidth + x] = 0xa08050 + ((x * 7 + y * 13) % 11) * 0x030302;
        for (const Vec& bow : bows) {
            const auto px = static_cast<int>(std::fabs(std::fmod(bow.x, 96.0f))),
                       py = static_cast<int>(std::fabs(std::fmod(bow.y, 60.0f)));
            for (int i = -2; i <= 2; ++i)
                for (int k = -1; k <= 1; ++k)
                    if (px + i >= 0 && px + i < 96 && py + k >= 0 && py + k < 60)
                        pixels[static_cast<size_t>(py + k) * kWidth + static_cast<size_t>(px + i)] =
                            k ? 0xf0f0f0 : 0x4050d0;
        }
        fug_picture(kWidth, kHeight, pixels.data(), kWidth * 4);
    }

    void simulate(uint32_t n, const fug::Counter& touching) {
        FUG_MARK("Simulate", "physics", "One step of wind, boats, gulls and crowd");
        constexpr float dt = 1.0f / 60;
        {
            FUG_MARK("Wind", "physics", "The wind field over the water");
            const bool gust = troubled("gust", n);
            if (gust && !troubled("gust", n - 1, false)) fug_point(FUG_INFO, "A gust crosses the course");
            for (int i = 0; i < (gust ? 44 : 4); ++i) {
                FUG_MARK("Rebuild field", "physics", "Carries the wind one small step on");
                work(0.27 * kMs, "wind", [&](int r) { race_.wind.rebuild(dt / 4, r, gust ? 1.0f : 0.1f); });
            }
        }
        {
            FUG_MARK("Boats", "physics", "Hulls here, sails on the workers");
            race_.beginSails();
            for (int i = 0; i < 4; ++i) {
                ++clothAsked_;
                jobs_.push([this, i] {
                    FUG_MARK("Sail cloth", "physics", "Springs and masses of three sails");
                    fug_link_in(currentLink());
                    FUG_ARGUMENT("first sail", i * 3);
                    if (i == 0) packReports();
                    work(1.1 * kMs, "cloth", [&](int r) { race_.cloth(i * 3, i * 3 + 3, dt, r); });
                    finishCloth();
                });
            }
            FUG_MARK("Hulls", "physics", "Hulls on the waves");
            inParts(12, "boat", 2.6 * sea(n) * kMs, "hulls", [&](int r) { race_.hulls(dt, r); });
        }
        if (std::any_of(race_.boats.begin(), race_.boats.end(),
                        [](const Boat& boat) { return std::abs(boat.pitch) > kOnItsBow; })) {
            const fug::Mark mark(rescue);
            work(2 * kMs, "bytes", [&](int r) { hash(r); });
        }
        {
            FUG_MARK("Collisions", "physics", "Boats that touch");
            int near = 0;
            inParts(66, "pair", 0.5 * kMs, "collisions", [&](int r) { near = race_.collisions(r); });
            touching.set(near);
            FUG_ARGUMENT("touching", near);
            if (!near) fug_changed_nothing();
            const bool storm = troubled("log", n);
            for (int i = 0; i < (storm ? 64 : 1); ++i) {
                FUG_MARK("Write log line", "log", "One line into the race log");
                fug_memory_taken(0, reinterpret_cast<void*>(4096), 160, nullptr);  // the line, until it is written
                work(0.18 * kMs, "bytes", [&](int r) { hash(r); });
                fug_memory_given(0, reinterpret_cast<void*>(4096));
                if (storm && i % 16 == 0) fug_point(FUG_WARNING, "boats 3 and 7 overlap at the mark");
            }
        }
        {
            FUG_MARK("Gulls", "creatures", "The flock, and where each gull wants to go");
            {
                FUG_MARK("Flock", "creatures", "Keep together, keep apart");
                work(0.9 * kMs, "flock", [&](int r) { race_.flock(dt, r); });
            }
            const bool slow = troubled("gulls", n);
            for (int i = 0; i < 2; ++i) {
                FUG_MARK_WITH(0, 1'000'000, "Plan path", "creatures", "The way to the leading boat");
                work((slow ? 6.4 : 0.3) * kMs, "plan", [&](int r) { race_.planPath(static_cast<int>(n) + i, r); });
            }
        }
        {
            FUG_MARK("Crowd", "creatures", "Spectators turn their heads");
            inParts(40, "group", 1.0 * bustle(n) * kMs, "crowd", [&](int r) { race_.crowd(r); });
        }
        if (troubled("table", n)) {
            tableAsked_ = n;
            jobs_.push([this, standings = race_.standings()] {
                FUG_MARK("Rank all legs", "table", "Every boat against every other, on every leg");
                fug_link_in(currentLink());
                work(52 * kMs, "rank", [&](int r) { rank(standings, r); });
                tableReady_.raise(++tableDone_);
            });
        }
        FUG_MARK("Join sails", "physics", "Until the workers are through with the cloth");
        FUG_SITE_HERE(waitSite, "Wait for sails", "physics", "");
        clothDone_.waitFor(clothAsked_, waitSite);
        race_.endSails();
    }

    void rounding(uint32_t n) {
        FUG_MARK("Rounding", "course", "Who rounds which mark");
        work(0.05 * kMs, "bytes", [&](int r) { hash(r); });
        if (!troubled("rounding", n)) return;
        fug_point(FUG_INFO, "First boat rounds the mark");
        FUG_MARK("Load sails", "assets", "Spinnakers, when first needed");
        {
            FUG_MARK("Find files", "assets", "");
            work(0.4 * kMs, "bytes", [&](int r) { hash(r); });
        }
        {
            FUG_WAIT(wait, sailFile_, FUG_WAIT_FILE, "Read sail file", "assets", "3.2 MB from the disk");
            device(9 * kMs);
        }
        FUG_MARK("Unpack cloth", "assets", "");
        FUG_ARGUMENT("file", "sails.pak");
        // The spinnaker of the leg before last is taken down again; the last two stay.
        const std::string name = "spinnaker " + std::to_string(++spinnakers_);
        sails_.taken(reinterpret_cast<void*>(spinnakers_), 3'200'000 + spinnakers_ * 40'000, name.c_str());
        if (spinnakers_ > 2) sails_.given(reinterpret_cast<void*>(spinnakers_ - 2));
        work(7.5 * kMs, "bytes", [&](int r) { hash(r); });
    }

    void recordReplay() {
        FUG_MARK("Record replay", "replay", "Adds this step to the replay");
        FUG_SITE_HERE(waitSite, "Wait for scene lock", "replay", "");
        scene_.lock(waitSite);
        const std::vector<uint8_t> step = race_.snapshot();
        replay_.insert(replay_.end(), step.begin(), step.end());
        work(0.4 * kMs, "bytes", [&](int r) { hash(r); });
        scene_.unlock();
    }

    void drawList(uint32_t n, const fug::Counter& drawn) {
        FUG_MARK("Draw list", "drawing", "What is to be seen, in order");
        int seen = 0;
        {
            FUG_MARK("Cull", "drawing", "Leaves out what nobody can see");
            inParts(48, "cell", 1.2 * bustle(n) * kMs, "cull", [&](int r) { seen = race_.cull(drops_, r); });
            FUG_ARGUMENT("seen", seen);
        }
        {
            FUG_MARK("Sort", "drawing", "");
            work(1.3 * kMs, "bytes", [&](int r) { hash(r); });
        }
        drawn.set(180 + seen / 4);
        FUG_SITE_HERE(waitSite, "Wait for render", "drawing", "Until the picture before this one is on its way");
        if (n) pictureDone_.waitFor(n, waitSite);
        const bool overdraw = troubled("spray", n);
        pictures_.push([this, n, overdraw, bows = race_.bows()] { draw(n, overdraw, bows); });
    }

    void draw(uint32_t n, bool overdraw, const std::vector<Vec>& bows) {  // on the render thread
        const fug::Frame frame(pictureFrames);
        FUG_MARK("Picture", "drawing", "One picture, from draw list to queue");
        fug_link_in(currentLink());
        {
            FUG_MARK("Encode", "drawing", "Commands for the GPU");
            work(3.4 * kMs, "bytes", [&](int r) { hash(r); });
        }
        answerReports(n);
        if (n % 120 == 0) takePicture(bows);
        FUG_SITE_HERE(waitSite, "Wait for GPU", "drawing", "The queue holds one picture at most");
        if (n) sceneDone_.waitFor(n, waitSite);
        if (n == 0) copies_.startAt(runtime_.now(), runtime_.isVirtual() ? 1.0 : ticksPerNs_);
        const auto drops = static_cast<int64_t>(drops_.load());
        copies_.tell(runtime_.now(), 180'000 + drops * 600, drops * 24, n == 0);
        compute_.push([this, bows] {
            FUG_MARK("Spray drops", "gpu", "Moves every drop");
            fug_link_in(currentLink());
            spray_.step(bows, 1.0f / 60, 1);
            drops_ = spray_.drops();
            device(1.3 * kMs);
            dropsDone_.raise(++dropsMoved_);
        });
        graphics_.push([this, n, overdraw] {
            FUG_MARK("Scene", "gpu", "The whole picture");
            fug_link_in(currentLink());
            pass("Water", 3.0);
            pass("Boats", 2.2);
            pass("Crowd", 1.1);
            FUG_SITE_HERE(dropsSite, "Wait for drops", "gpu", "The compute queue moves them");
            dropsDone_.waitFor(n + 1, dropsSite);
            displayed_.tick();
            FUG_MARK("Spray", "gpu", "Drops, each drawn over the last");
            device((overdraw ? 17.5 : 1.4) * kMs);
            sceneDone_.raise(n + 1);
        });
        pictureDone_.raise(n + 1);
    }

    void pass(const char* name, double ms) {
        FUG_SITE_HERE(water, "Water", "gpu", "");
        FUG_SITE_HERE(boats, "Boats", "gpu", "");
        FUG_SITE_HERE(crowd, "Crowd", "gpu", "");
        fug::Mark mark(name[0] == 'W' ? water : name[0] == 'B' ? boats : crowd);
        device(ms * kMs);
    }

    void serve(WorkQueue& queue) {
        FUG_SITE_HERE(waitSite, "Wait for work", "jobs", "");
        std::function<void()> task;
        uint64_t link = 0;
        while (queue.pop(task, link, waitSite)) {
            currentLink() = link;
            task();
        }
    }
    static uint64_t& currentLink() {
        thread_local uint64_t link = 0;
        return link;
    }

    void renderLoop() {
        fug_name_thread("render", "render", FUG_LANE_THREAD);
        serve(pictures_);
        graphics_.close();
        compute_.close();
    }
    void workerLoop(const char* name) {
        fug_name_thread(name, "worker", FUG_LANE_THREAD);
        serve(jobs_);
    }
    void queueLoop(const char* name, WorkQueue& queue) {
        fug_name_thread(name, name, FUG_LANE_QUEUE);
        serve(queue);
    }
    void finishCloth() {
        uint64_t done;
        {
            const Section section(runtime_);
            done = ++clothFinished_;
        }
        clothDone_.raise(done);
    }

    void autosaveLoop() {
        fug_name_thread("autosave", "autosave", FUG_LANE_THREAD);
        const fug::Object timer("autosave timer");
        const fug::Counter saved("replay saved", "kB");
        const Rhythm& rhythm = kRhythms.at("autosave");
        FUG_SITE_HERE(lockSite, "Wait for scene lock", "replay", "");
        FUG_SITE_HERE(fileSite, "Write file", "replay", "The replay goes to the disk");
        for (int round = 0;; ++round) {
            const auto due = static_cast<int64_t>((rhythm.first + rhythm.every * round) * 1e9) + 5'000'000;
            {
                FUG_WAIT(wait, timer, FUG_WAIT_SLEEP, "Wait for timer", "replay", "");
                // In steps, so that the end of the race is seen.
                while (!stop_ && runtime_.now() < due) runtime_.sleepUntil(std::min(due, runtime_.now() + 50'000'000));
            }
            if (stop_) return;
            const bool hold = has("autosave");
            if (hold) planted_[0].frames.push_back(frame_);
            size_t bytes = 0;
            FUG_MARK("Autosave", "replay", "Keeps the race so far");
            FUG_MARK("Replay", "replay", "Packs and writes the replay");
            {
                FUG_MARK("Flush", "replay", "Hands the packed replay to the disk");
                scene_.lock(lockSite);
                work(0.3 * kMs, "bytes", [&](int r) { hash(r); });
                const std::vector<uint8_t> packed = replay_;
                bytes = packed.size();
                if (!hold) scene_.unlock();
                {
                    fug::Mark mark(fileSite);
                    if (!runtime_.isVirtual()) writeReplay(packed);
                    device(26 * kMs);  // the disk is a slow one
                }
                if (hold) scene_.unlock();
            }
            saved.set(static_cast<double>(bytes) / 1024);
        }
    }

    static void writeReplay(const std::vector<uint8_t>& packed) {
        if (std::FILE* file = std::tmpfile()) {
            std::fwrite(packed.data(), 1, packed.size(), file);
            std::fclose(file);
        }
    }

    void audioLoop() {
        fug_name_thread("audio", "audio", FUG_LANE_THREAD);
        const fug::Object device("sound device");
        std::vector<float> samples(512);
        for (int64_t buffer = 0; !stop_; ++buffer) {
            {
                const fug::Frame frame(soundFrames);
                FUG_MARK("Mix sound", "audio", "512 samples of wind and water");
                work(0.8 * kMs, "sound", [&](int r) { mixSound(samples, static_cast<float>(buffer) * 0.0107f, r); });
            }
            FUG_WAIT(wait, device, FUG_WAIT_PACING, "Wait for device", "audio", "Until the sound device wants more");
            runtime_.sleepUntil((buffer + 1) * kSoundNs);
        }
    }

    Runtime& runtime_;
    Settings settings_;
    Race race_;  // the main thread's, but for the sails between beginSails and endSails
    std::minstd_rand sailor_;
    Spray spray_;  // the compute queue's
    std::atomic<size_t> drops_{0};
    uint32_t frameCount_, raceFrom_ = frameCount_ / 7, finishFrom_ = frameCount_ * 4 / 5;
    std::map<std::string, double> nsPerRound_;
    volatile float sink_ = 0;
    std::vector<Planted> planted_;
    std::atomic<uint32_t> frame_{0};
    std::atomic<bool> stop_{false};
    int64_t lag_ = 0;
    std::vector<uint8_t> replay_;  // guarded by scene_
    uint64_t clothAsked_ = 0, clothFinished_ = 0, dropsMoved_ = 0;
    uint32_t tableAsked_ = 0;
    uint64_t tableShown_ = 0, tableDone_ = 0;

    Gate scene_{runtime_, "scene lock"};
    fug::Object sailFile_{"sails.pak"};
    fug::Pool sails_{"sails"};
    uint64_t spinnakers_ = 0;
    fug::Series displayed_{"display", 2 * kTickNs};
    CopyEngine copies_;  // the render thread's
    double ticksPerNs_ = 1;
    struct Report {
        uint32_t due;
        fug::Operation operation;
        bool fails, packed = false;
    };
    fugato::Mutex reportsMutex_;
    std::deque<Report> reports_ FUGATO_GUARDED_BY(reportsMutex_);
    std::map<std::string, fug_site> fineSites_{
        {"boat", FUG_SITE_WITH("Boat", "physics", "One hull", 1, 0)},
        {"pair", FUG_SITE_WITH("Pair", "physics", "Two boats", 1, 0)},
        {"group", FUG_SITE_WITH("Group", "creatures", "Some spectators", 1, 0)},
        {"cell", FUG_SITE_WITH("Cell", "drawing", "A part of the course", 1, 0)},
    };
    WorkQueue jobs_{runtime_, "jobs"}, pictures_{runtime_, "pictures"}, graphics_{runtime_, "graphics queue"},
        compute_{runtime_, "compute queue"};
    Fence clothDone_{runtime_, "sails done", FUG_WAIT_JOB}, tableReady_{runtime_, "race table", FUG_WAIT_JOB};
    Fence pictureDone_{runtime_, "picture done", FUG_WAIT_JOB}, sceneDone_{runtime_, "scene fence", FUG_WAIT_GPU},
        dropsDone_{runtime_, "drops fence", FUG_WAIT_GPU};
};

}  // namespace

std::vector<Planted> sail(Runtime& runtime, const Settings& settings) { return Regatta(runtime, settings).run(); }

void endRace() { endAsked = true; }

}  // namespace skerry
