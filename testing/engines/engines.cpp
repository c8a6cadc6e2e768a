// SPDX-License-Identifier: GPL-3.0-or-later
#include "engines.h"

#include <algorithm>
#include <cmath>

#include "testing/sampled_program.h"
#include "world.h"

namespace engines {

using fugato::EventKind;
using fugato::WaitKind;

const char* shapeName(Shape shape) {
    static const char* const names[] = {"loop", "workers", "render", "jobs", "gpu-bound", "two-series"};
    return names[static_cast<size_t>(shape)];
}
const char* troubleName(Trouble trouble) {
    static const char* const names[] = {
        "slower-call",   "more-calls",    "unusual",     "unmarked",   "lock-held",     "file-wait",
        "long-wait",     "other-program", "own-threads", "slow-job",   "earlier-work",  "job-behind-lock",
        "render-slower", "gpu-slower",    "copy-slower", "long-sleep", "library-thread"};
    return names[static_cast<size_t>(trouble)];
}

bool applies(Trouble trouble, Shape shape) {
    const bool workers = shape == Shape::Workers || shape == Shape::Jobs;
    const bool gpu = shape == Shape::Render || shape == Shape::GpuBound;
    switch (trouble) {
        case Trouble::OwnThreads:
        case Trouble::SlowJob:
        case Trouble::EarlierWork:
        case Trouble::JobBehindLock: return workers;
        case Trouble::RenderSlower: return shape == Shape::Render || shape == Shape::TwoSeries;
        case Trouble::GpuSlower:
        case Trouble::CopySlower: return gpu;
        default: return true;
    }
}

bool needsLinks(Trouble trouble, Shape shape) {
    switch (trouble) {
        case Trouble::SlowJob:
        case Trouble::EarlierWork:
        case Trouble::JobBehindLock:
        case Trouble::GpuSlower:
        case Trouble::CopySlower: return true;
        case Trouble::RenderSlower: return shape != Shape::TwoSeries;  // there it has frames of its own
        default: return false;
    }
}
bool needsSwitches(Trouble trouble) {
    return trouble == Trouble::OtherProgram || trouble == Trouble::OwnThreads || trouble == Trouble::LibraryThread;
}
bool stacksTell(Trouble trouble) {
    return trouble == Trouble::SlowerCall || trouble == Trouble::MoreCalls || trouble == Trouble::Unusual ||
           trouble == Trouble::Unmarked;
}
bool wakeUpsTell(Trouble trouble) { return trouble != Trouble::GpuSlower && trouble != Trouble::CopySlower; }

namespace {

constexpr int64_t kTick = 16'666'667;
constexpr double kMs = 1e6;
const char* const kSystems[] = {"Tides", "Rigging", "Currents", "Lanterns", "Anchors"};
const char* const kParts[] = {"Raise water", "Pull rope", "Bend stream", "Trim wick", "Weigh chain"};

uint64_t mixed(uint64_t x) {
    x += 0x9e3779b97f4a7c15ull;
    x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9ull;
    x = (x ^ (x >> 27)) * 0x94d049bb133111ebull;
    return x ^ (x >> 31);
}

class Engine {
public:
    Engine(const Settings& settings, const std::set<Trouble>& repaired)
        : settings_(settings), repaired_(repaired), world_(4, settings.noise.stacksAlone) {
        const bool gpuBound = shapeIs(Shape::GpuBound);
        systems_ = 3 + pick(1, 3);
        double whole = 0;
        for (int i = 0; i < systems_; ++i) {
            System system;
            system.site = world_.site(kSystems[i]);
            system.part = world_.site(kParts[i]);
            system.calls = 1 + pick(10 + i, 10);
            system.partMs = 0.3 + 2.0 * chance(20 + i);
            system.selfMs = 0.05 + 0.2 * chance(30 + i);
            whole += system.partMs + system.selfMs;
            list_.push_back(system);
        }
        const double wanted = gpuBound ? 3.5 : 6.5;
        for (System& system : list_) {
            system.partMs *= wanted / whole / system.calls;
            system.selfMs *= wanted / whole;
        }
        paced_ = pick(2, 2) == 0;
        if (settings.noise.stacksAlone) {
            using fugato::Sampled;
            world_.define(fugato::ContextDefinition{"os samples", "every 1000 us of running"});
            world_.define(fugato::ModuleDefinition{fugato::kProgramAt, fugato::kModuleBytes, 0,
                                                   fugato::sampledProgramPath(), ""});
            world_.define(fugato::ModuleDefinition{fugato::kLibraryAt, fugato::kModuleBytes, 0, FUGATO_SAMPLED_LIBRARY,
                                                   fugato::kLibraryBuildId});
            elsewhere_ = fugato::stackBytes(std::vector{Sampled::RunRegatta});
            stacks_ = {fugato::stackBytes(std::vector{Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta}),
                       fugato::stackBytes(std::vector{Sampled::Sound, Sampled::FindCourse, Sampled::RunRegatta}),
                       fugato::stackBytes(std::vector{Sampled::LoadChart, Sampled::RunRegatta}),
                       fugato::stackBytes(std::vector{Sampled::FindCourse, Sampled::RunRegatta}),
                       fugato::stackBytes(std::vector{Sampled::UnpackRows, Sampled::RunRegatta})};
        }
        plan();
    }

    std::vector<Expected> run(fugato::EventSink& sink) {
        const Shape shape = settings_.shape;
        loop_ = world_.series("loop", kTick);
        if (shape == Shape::TwoSeries) pictures_ = world_.series("picture", kTick);
        main_ = &world_.thread("main", {"loop", 2, false, true, "", 0});
        saver_ = &world_.thread("saver", {"", 1, false, true, "", 0});
        if (shape == Shape::Workers || shape == Shape::Jobs)
            for (int i = 0; i < 3; ++i)
                workers_.push_back(
                    &world_.thread("worker " + std::to_string(i + 1), {"worker", 1, false, true, "", 0}));
        const bool render = shape == Shape::Render || shape == Shape::TwoSeries || shape == Shape::GpuBound;
        if (render) render_ = &world_.thread("render", {"render", 2, false, true, "", 0});
        if (render && shape != Shape::TwoSeries) {
            graphics_ = &world_.thread("GPU graphics", {"", 0, true, true, "", settings_.noise.deviceClockError});
            copy_ = &world_.thread("GPU copy", {"", 0, true, true, "", settings_.noise.deviceClockError});
        }
        for (int i = 0; i < 4; ++i) {
            const char* const programs[] = {"updater", "indexer", "backup", "mail"};  // or four of the first
            const char* const program = programs[pick(3, 2) * i];
            intruders_.push_back(&world_.thread(program, {"", 9, false, false, program, 0}));
            haulers_.push_back(&world_.thread("hauler " + std::to_string(i + 1), {"hauler", 3, false, true, "", 0}));
        }

        if (planted(Trouble::LibraryThread)) {
            unpacker_ = &world_.thread("unpacker", {"", 2, false, false, "", 0});
            world_.start(*unpacker_, [this] { return unpackerLoop(); });
        }
        world_.start(*main_, [this] { return mainLoop(); });
        world_.start(*saver_, [this] { return saverLoop(); });
        for (Thread* worker : workers_) world_.start(*worker, [this, worker] { return jobs_.serve(*worker); });
        if (render_)
            world_.start(*render_, [this] { return shapeIs(Shape::TwoSeries) ? pictureLoop() : renderLoop(); });
        if (graphics_) {
            world_.start(*graphics_, [this] { return graphicsQueue_.serve(*graphics_); });
            world_.start(*copy_, [this] { return copyQueue_.serve(*copy_); });
        }
        for (int i = 0; i < 4; ++i) {
            Thread* intruder = intruders_[static_cast<size_t>(i)];
            Thread* hauler = haulers_[static_cast<size_t>(i)];
            world_.start(*intruder, [this, intruder] { return coreLoop(*intruder, Trouble::OtherProgram, 0); });
            world_.start(*hauler, [this, hauler] { return coreLoop(*hauler, Trouble::OwnThreads, haul_); });
        }
        world_.run();
        world_.tellAll(sink, settings_.noise.switches, settings_.noise.wakeUps || unpacker_);
        return expected();
    }

private:
    struct System {
        uint32_t site = 0, part = 0;
        int calls = 1;
        double partMs = 0, selfMs = 0;
    };
    struct Planted {
        Trouble trouble{};
        std::set<uint32_t> frames;
        int system = 0;
    };

    bool shapeIs(Shape shape) const { return settings_.shape == shape; }

    // ---- chance: the same for the same seed, whatever else happens ---------------------------------------

    double chance(uint64_t what, uint64_t frame = 0) const {
        const uint64_t bits = mixed(mixed(settings_.seed * 1000003 + what) + frame);
        return static_cast<double>(bits >> 11) * 0x1p-53;
    }
    int pick(uint64_t what, int count) const { return static_cast<int>(chance(what) * count); }
    /// Durations scatter around `ms`, seldom far above it.
    int64_t around(double ms, uint64_t what, uint64_t frame) const {
        const double u = chance(what, frame), tail = chance(what + 7777, frame);
        const double noise = settings_.noise.jitter;
        double factor = 1 + noise * (u + chance(what + 3333, frame) - 1);
        if (tail > 0.99) factor += noise * 3;
        if (settings_.noise.drift) factor *= 1 + 0.33 * static_cast<double>(frame) / settings_.frames;
        return std::max<int64_t>(1000, static_cast<int64_t>(ms * factor * kMs));
    }

    // ---- troubles ------------------------------------------------------------------------------------

    void plan() {
        for (size_t i = 0; i < settings_.troubles.size(); ++i) {
            Planted planted;
            planted.trouble = settings_.troubles[i];
            planted.system = pick(40 + i, systems_);
            // Two of a kind that share one place would be one trouble.
            if (i > 0 && planted.system == planted_[0].system) planted.system = (planted.system + 1) % systems_;
            const uint32_t every = 48;
            for (uint32_t k = 0; 40 + k * every < settings_.frames - 20; ++k) {
                uint32_t first = 40 + k * every + static_cast<uint32_t>(6 * chance(50, k));
                if (!settings_.together && i == 1) first += every / 2;
                // What lasts for more than a frame follows on itself.
                const bool once = planted.trouble == Trouble::EarlierWork || planted.trouble == Trouble::Unusual;
                const auto length = once ? 1 : 1 + static_cast<uint32_t>(3 * chance(60 + i, k));
                for (uint32_t f = 0; f < length; ++f) planted.frames.insert(first + f);
            }
            planted_.push_back(std::move(planted));
        }
    }
    const Planted* planted(Trouble trouble) const {
        for (const Planted& p : planted_)
            if (p.trouble == trouble) return &p;
        return nullptr;
    }
    bool atWork(Trouble trouble, uint32_t frame) const {
        const Planted* p = planted(trouble);
        return p && !repaired_.count(trouble) && p->frames.count(frame);
    }
    bool atWork(Trouble trouble, uint32_t frame, int system) const {
        return atWork(trouble, frame) && planted(trouble)->system == system;
    }
    /// What a trouble adds: enough to be late, mostly by far.
    double extraMs(Trouble trouble, uint32_t frame) const {
        const double u = chance(100 + static_cast<uint64_t>(trouble), frame);
        return 11 + 12 * u * u;
    }

    std::vector<Expected> expected() const {
        std::vector<Expected> out;
        for (const Planted& p : planted_) {
            Expected e;
            e.trouble = p.trouble;
            e.series = "loop";
            e.lane = "main";
            e.frames = p.frames;
            const std::string system = kSystems[p.system], part = kParts[p.system];
            switch (p.trouble) {
                case Trouble::SlowerCall: e.path = {"Frame", system, part}, e.kind = "slower"; break;
                case Trouble::MoreCalls: e.path = {"Frame", system, part}, e.kind = "more_calls"; break;
                case Trouble::Unusual: e.path = {"Frame", system, "Careen"}, e.kind = "unusual"; break;
                case Trouble::Unmarked: e.path = {"Frame", system}, e.kind = "unexplained"; break;
                case Trouble::LockHeld: e.lane = "saver", e.path = {"Save"}, e.kind = "waiting"; break;
                case Trouble::FileWait: e.path = {"Frame", "Chart", "Read chart"}, e.kind = "waiting"; break;
                case Trouble::LongWait: e.path = {"Frame", "Hail pilot", "Wait for pilot"}, e.kind = "waiting"; break;
                case Trouble::OtherProgram: e.kind = "no_core", e.by = {"updater", "indexer", "backup", "mail"}; break;
                case Trouble::OwnThreads: e.kind = "no_core", e.by = {"hauler"}; break;
                case Trouble::SlowJob: e.lane = "worker", e.path = {"Job", "Splice"}, e.kind = "slower"; break;
                case Trouble::EarlierWork: e.lane = "worker", e.path = {"Survey"}, e.kind = "unusual"; break;
                case Trouble::JobBehindLock: e.lane = "saver", e.path = {"Load"}, e.kind = "waiting"; break;
                case Trouble::RenderSlower:
                    e.lane = "render", e.path = {"Picture", "Draw sails"}, e.kind = "slower";
                    if (shapeIs(Shape::TwoSeries)) e.series = "picture", e.path.insert(e.path.begin(), "Picture frame");
                    break;
                case Trouble::GpuSlower: e.lane = "GPU graphics", e.path = {"Scene", "Foam"}, e.kind = "slower"; break;
                case Trouble::LongSleep: e.path = {"Frame", "Keep watch", "Nap"}, e.kind = "waiting"; break;
                case Trouble::CopySlower: e.lane = "GPU copy", e.path = {"Upload"}, e.kind = "slower"; break;
                case Trouble::LibraryThread: e.lane = "unpacker", e.kind = "unexplained"; break;
            }
            if (settings_.noise.stacksAlone && stacksTell(p.trouble)) {
                static const char* const kNames[] = {"unpack_rows", "shore::sound<long>", "shore::Chart::load",
                                                     "shore::findCourse", "unpack_rows"};
                e.path.clear();
                e.kind = "unexplained";
                e.function = kNames[p.system];
            }
            out.push_back(std::move(e));
        }
        return out;
    }

    // ---- what is done in a frame ---------------------------------------------------------------------

    Doing system(Thread& t, uint32_t n, int i) {
        const System& s = list_[static_cast<size_t>(i)];
        t.begin(s.site);
        if (settings_.noise.stacksAlone) t.runs(stacks_[static_cast<size_t>(i)]);
        int calls = s.calls;
        double partMs = s.partMs;
        if (settings_.noise.everyFourth && n % 4 == 3 && i == 0) calls += std::max(1, calls / 2);
        if (settings_.noise.warmUp && n < 30 && i == 0) partMs *= 1.5;
        if (atWork(Trouble::MoreCalls, n, i))
            calls += static_cast<int>(std::ceil(extraMs(Trouble::MoreCalls, n) / partMs));
        const double slower = atWork(Trouble::SlowerCall, n, i) ? extraMs(Trouble::SlowerCall, n) / calls : 0;
        co_await t.run(around(s.selfMs, 200 + static_cast<uint64_t>(i), n));
        for (int c = 0; c < calls; ++c) {
            t.begin(s.part);
            co_await t.run(around(partMs, 300 + static_cast<uint64_t>(i * 100 + std::min(c, 99)), n) +
                           static_cast<int64_t>(slower * kMs));
            t.end();
        }
        if (atWork(Trouble::Unusual, n, i)) {
            t.begin(careen_);
            co_await t.run(static_cast<int64_t>(extraMs(Trouble::Unusual, n) * kMs));
            t.end();
        }
        if (atWork(Trouble::Unmarked, n, i)) co_await t.run(static_cast<int64_t>(extraMs(Trouble::Unmarked, n) * kMs));
        t.runs(elsewhere_);
        t.end();
    }

    Doing jobWork(Thread& t, uint32_t n, int j, uint64_t link) {
        t.begin(job_);
        if (link) t.tell(EventKind::LinkIn, 0, link);
        co_await t.run(around(0.2, 400 + static_cast<uint64_t>(j), n));
        if (atWork(Trouble::JobBehindLock, n) && j == 2) {
            co_await store_.take(t, waitStore_);
            co_await t.run(around(0.1, 420, n));
            store_.give(t);
        }
        t.begin(splice_);
        double ms = 0.9 + 0.2 * j;
        if (atWork(Trouble::SlowJob, n) && j == 1) ms += extraMs(Trouble::SlowJob, n) + 3;
        co_await t.run(around(ms, 430 + static_cast<uint64_t>(j), n));
        t.end();
        t.end();
        jobsDone_.raise(t, ++finishedJobs_);
    }

    void pushJobs(uint32_t n) {
        for (int j = 0; j < 4; ++j)
            jobs_.push(
                *main_, [this, n, j](Thread& t, uint64_t link) { return jobWork(t, n, j, link); },
                settings_.noise.links);
        askedJobs_ += 4;
    }

    /// Waits inside a marker, longer where the trouble is at work.
    Doing waitInside(Thread& t, uint32_t n, uint32_t site, uint32_t waitSite, uint32_t object, WaitKind kind,
                     Trouble trouble, double usualMs) {
        t.begin(site);
        t.waitBegin(waitSite, object, kind);
        const double ms = usualMs + (atWork(trouble, n) ? extraMs(trouble, n) : 0);
        co_await t.sleepUntil(t.now() + around(ms, 510 + 10 * static_cast<uint64_t>(kind), n));
        t.waitEnd();
        t.end();
    }

    /// The frame goes on when its jobs are done, and where it needs surveys of an earlier one, these.
    Doing awaitJobs(Thread& t, uint32_t n) {
        if (shapeIs(Shape::Jobs)) {  // helps until nothing is left
            WorkQueue::Work work;
            uint64_t link = 0;
            while (jobs_.take(work, link)) {
                const WorkQueue::Work mine = std::move(work);
                co_await mine(t, link);
            }
        }
        t.begin(join_);
        co_await jobsDone_.waitFor(t, askedJobs_, waitJobs_);
        t.end();
        if (surveysNeeded_ < askedSurveys_ && planted(Trouble::EarlierWork)->frames.count(n)) {
            t.begin(plot_);
            co_await surveysDone_.waitFor(t, ++surveysNeeded_, waitSurvey_);
            t.end();
        }
    }

    /// Lets every thread that still waits for work see that none comes.
    void letAllEnd() {
        stop_ = true;
        jobs_.close();
        if (render_ && !shapeIs(Shape::TwoSeries)) snapshot_.raise(*main_, settings_.frames + 1);
        for (auto* thread : haulers_) wakeIfIdle(thread);
        for (auto* thread : intruders_) wakeIfIdle(thread);
        if (saverIdle_) wakeIfIdle(saver_);
        if (unpacker_) wakeIfIdle(unpacker_);
    }

    Doing mainLoop() {
        Thread& t = *main_;
        t.runs(elsewhere_);
        for (uint32_t n = 0; n < settings_.frames; ++n) {
            frame_ = n;
            t.tell(EventKind::FrameBegin, loop_);
            startSaving(n);
            t.begin(frameSite_);
            const bool jobs = !workers_.empty();
            if (jobs) {
                if (const Planted* earlier = planted(Trouble::EarlierWork);
                    earlier && !repaired_.count(Trouble::EarlierWork) && earlier->frames.count(n + 2)) {
                    jobs_.push(
                        t, [this, n](Thread& w, uint64_t link) { return survey(w, n, link); }, settings_.noise.links);
                    ++askedSurveys_;
                }
                pushJobs(n);
            }
            for (int i = 0; i < systems_; ++i) {
                co_await system(t, n, i);
                if (i == 0) {
                    t.begin(record_);
                    co_await chart_.take(t, waitChart_);
                    co_await t.run(around(0.15, 500, n));
                    chart_.give(t);
                    t.end();
                }
            }
            if (atWork(Trouble::FileWait, n) || n % 3 == 0) {
                co_await waitInside(t, n, chartSite_, readChart_, chartFile_, WaitKind::File, Trouble::FileWait, 0.2);
            }
            co_await waitInside(t, n, hail_, waitPilot_, pilot_, WaitKind::Condition, Trouble::LongWait, 0.1);
            co_await waitInside(t, n, watch_, nap_, bunk_, WaitKind::Sleep, Trouble::LongSleep, 0.1);
            if (unpacker_) {  // tells neither that it waits nor for whom
                t.begin(unpack_);
                wakeIfIdle(unpacker_);
                co_await t.block();
                t.end();
            }
            if (jobs) co_await awaitJobs(t, n);
            if (render_ && !shapeIs(Shape::TwoSeries)) {
                t.begin(handOver_);
                // One picture ahead at most.
                if (n > 0) co_await pictureTaken_.waitFor(t, n, waitRender_);
                co_await t.run(around(0.1, 530, n));
                snapshot_.raise(t, n + 1);
                t.end();
            } else if (render_) {
                co_await scene_.take(t, waitScene_);
                co_await t.run(around(0.1, 531, n));
                scene_.give(t);
            }
            t.end();
            if (!paced_) t.tell(EventKind::FrameEnd, loop_);
            co_await pace(t, n, due_);
            if (paced_) t.tell(EventKind::FrameEnd, loop_);
        }
        letAllEnd();
    }
    Doing unpackerLoop() {
        Thread& t = *unpacker_;
        for (;;) {
            idle_.insert(&t);
            co_await t.block();
            if (stop_) co_return;
            const double ms =
                0.4 + (atWork(Trouble::LibraryThread, frame_) ? extraMs(Trouble::LibraryThread, frame_) : 0);
            co_await t.run(around(ms, 950, frame_));
            world_.wake(*main_);
        }
    }

    Doing pace(Thread& t, uint32_t, int64_t& due) {
        t.waitBegin(waitTick_, tick_, WaitKind::Pacing);
        due += kTick;
        if (paced_)
            while (due < t.now()) due += kTick;  // held to the display's tick
        else
            due = std::max(due, t.now());
        co_await t.sleepUntil(due);
        t.waitEnd();
    }

    Doing survey(Thread& t, uint32_t n, uint64_t link) {
        t.begin(survey_);
        if (link) t.tell(EventKind::LinkIn, 0, link);
        co_await t.run(static_cast<int64_t>((3 * 16.7 + extraMs(Trouble::EarlierWork, n + 2)) * kMs));
        t.end();
        surveysDone_.raise(t, ++finishedSurveys_);
    }

    // ---- the thread that saves and loads --------------------------------------------------------------

    void wakeIfIdle(Thread* thread) {
        if (idle_.erase(thread)) world_.wake(*thread);
    }
    void startSaving(uint32_t n) {
        for (const Trouble trouble : {Trouble::OtherProgram, Trouble::OwnThreads})
            if (atWork(trouble, n))
                for (Thread* thread : trouble == Trouble::OtherProgram ? intruders_ : haulers_) {
                    cause_[thread] = n;
                    wakeIfIdle(thread);
                }
        const bool load = atWork(Trouble::JobBehindLock, n), save = atWork(Trouble::LockHeld, n) || n % 40 == 20;
        if (load) loads_.push_back(n);
        if (save) saves_.push_back(n);
        if (load || save) wakeIfIdle(saver_);
    }
    Doing saverLoop() {
        Thread& t = *saver_;
        while (!stop_) {
            if (!loads_.empty()) {
                const uint32_t n = loads_.front();
                loads_.pop_front();
                t.begin(load_);
                co_await store_.take(t, waitStore_);
                t.begin(decode_);
                co_await t.run(static_cast<int64_t>((extraMs(Trouble::JobBehindLock, n) + 9) * kMs));
                t.end();
                store_.give(t);
                t.end();
                continue;
            }
            if (!saves_.empty()) {
                const uint32_t n = saves_.front();
                saves_.pop_front();
                t.begin(save_);
                co_await t.run(around(0.05, 600, n));
                co_await chart_.take(t, waitChart_);
                t.begin(writeOut_);
                const double ms = 0.3 + (atWork(Trouble::LockHeld, n) ? extraMs(Trouble::LockHeld, n) + 3 : 0);
                co_await t.run(static_cast<int64_t>(ms * kMs));
                t.end();
                chart_.give(t);
                t.end();
                continue;
            }
            idle_.insert(&t);
            saverIdle_ = true;
            co_await t.block();
        }
    }

    /// Takes a core for long when its trouble is at work.
    Doing coreLoop(Thread& t, Trouble trouble, uint32_t site) {
        for (;;) {
            if (stop_) co_return;
            idle_.insert(&t);
            co_await t.block();
            if (stop_) co_return;
            if (site) t.begin(site);
            co_await t.run(static_cast<int64_t>((extraMs(trouble, cause_[&t]) + 1) * kMs));
            if (site) t.end();
        }
    }

    // ---- drawing ----------------------------------------------------------------------------------------

    Doing draw(uint32_t n) {
        Thread& t = *render_;
        t.begin(picture_);
        t.begin(gather_);
        co_await t.run(around(0.8, 700, n));
        t.end();
        t.begin(drawSails_);
        const double ms = 2.2 + (atWork(Trouble::RenderSlower, n) ? extraMs(Trouble::RenderSlower, n) + 6 : 0);
        co_await t.run(around(ms, 710, n));
        t.end();
    }

    Doing renderLoop() {
        Thread& t = *render_;
        for (uint32_t n = 0; n < settings_.frames; ++n) {
            co_await snapshot_.waitFor(t, n + 1, waitSnapshot_);
            co_await draw(n);
            copyQueue_.push(
                t, [this, n](Thread& q, uint64_t link) { return upload(q, n, link); }, settings_.noise.links);
            graphicsQueue_.push(
                t, [this, n](Thread& q, uint64_t link) { return scene(q, n, link); }, settings_.noise.links);
            t.begin(present_);
            // The device may be one picture behind.
            if (n > 0) co_await sceneDone_.waitFor(t, n, waitGpu_);
            t.end();
            t.end();
            pictureTaken_.raise(t, n + 1);
        }
        graphicsQueue_.close();
        copyQueue_.close();
    }
    Doing upload(Thread& q, uint32_t n, uint64_t link) {
        q.begin(upload_);
        if (link) q.tell(EventKind::LinkIn, 0, link);
        const double ms = 1.2 + (atWork(Trouble::CopySlower, n) ? extraMs(Trouble::CopySlower, n) + 12 : 0);
        co_await q.run(around(ms, 800, n));
        q.end();
        uploaded_.raise(q, n + 1);
    }
    Doing scene(Thread& q, uint32_t n, uint64_t link) {
        q.begin(sceneSite_);
        if (link) q.tell(EventKind::LinkIn, 0, link);
        co_await uploaded_.waitFor(q, n + 1, waitUpload_);
        const double usual = shapeIs(Shape::GpuBound) ? 9 : 4;
        q.begin(water_);
        co_await q.run(around(usual * 0.6, 810, n));
        q.end();
        q.begin(foam_);
        const double ms = usual * 0.4 + (atWork(Trouble::GpuSlower, n) ? extraMs(Trouble::GpuSlower, n) + 12 : 0);
        co_await q.run(around(ms, 820, n));
        q.end();
        q.end();
        sceneDone_.raise(q, n + 1);
    }

    /// A loop of its own, which only shares a lock with the other.
    Doing pictureLoop() {
        Thread& t = *render_;
        int64_t due = 0;
        for (uint32_t n = 0; !stop_; ++n) {
            t.tell(EventKind::FrameBegin, pictures_);
            t.begin(pictureFrame_);
            co_await scene_.take(t, waitScene_);
            co_await t.run(around(0.2, 900, n));
            scene_.give(t);
            co_await draw(n);
            t.end();
            t.end();
            if (!paced_) t.tell(EventKind::FrameEnd, pictures_);
            co_await pace(t, n, due);
            if (paced_) t.tell(EventKind::FrameEnd, pictures_);
        }
    }

    const Settings settings_;
    const std::set<Trouble> repaired_;
    World world_;
    std::vector<System> list_;
    std::vector<std::string> stacks_;  // of the systems, where call stacks are taken
    std::string elsewhere_;            // that of all else that main does
    std::vector<Planted> planted_;
    int systems_ = 0;
    bool paced_ = false, stop_ = false, saverIdle_ = false;
    uint32_t loop_ = 0, pictures_ = 0, frame_ = 0;
    int64_t due_ = 0;
    Thread *main_ = nullptr, *saver_ = nullptr, *render_ = nullptr, *graphics_ = nullptr, *copy_ = nullptr,
           *unpacker_ = nullptr;
    std::vector<Thread*> workers_, intruders_, haulers_;
    std::set<Thread*> idle_;
    std::map<Thread*, uint32_t> cause_;
    std::deque<uint32_t> saves_, loads_;
    uint64_t askedJobs_ = 0, finishedJobs_ = 0, askedSurveys_ = 0, finishedSurveys_ = 0, surveysNeeded_ = 0;

    const bool told_ = settings_.noise.links;
    Lock chart_{world_, "chart lock"}, store_{world_, "store lock"}, scene_{world_, "scene lock"};
    Fence jobsDone_{world_, "jobs", WaitKind::Job, told_}, surveysDone_{world_, "survey", WaitKind::Job, told_},
        snapshot_{world_, "snapshot", WaitKind::Condition, told_},
        pictureTaken_{world_, "picture taken", WaitKind::Condition, told_},
        uploaded_{world_, "upload", WaitKind::Gpu, told_}, sceneDone_{world_, "scene", WaitKind::Gpu, told_};
    WorkQueue jobs_{world_}, graphicsQueue_{world_}, copyQueue_{world_};
    const uint32_t chartFile_ = world_.object("chart.dat"), pilot_ = world_.object("pilot"),
                   bunk_ = world_.object("bunk"), tick_ = world_.object("next tick");
    const uint32_t frameSite_ = world_.site("Frame"), careen_ = world_.site("Careen"),
                   record_ = world_.site("Log book"), waitChart_ = world_.site("Wait for chart"),
                   chartSite_ = world_.site("Chart"), readChart_ = world_.site("Read chart"),
                   watch_ = world_.site("Keep watch"), nap_ = world_.site("Nap"), hail_ = world_.site("Hail pilot"),
                   waitPilot_ = world_.site("Wait for pilot"), job_ = world_.site("Job"),
                   splice_ = world_.site("Splice"), join_ = world_.site("Join jobs"),
                   waitJobs_ = world_.site("Wait for jobs"), survey_ = world_.site("Survey"),
                   plot_ = world_.site("Plot course"), waitSurvey_ = world_.site("Wait for survey"),
                   handOver_ = world_.site("Hand over"), waitRender_ = world_.site("Wait for render"),
                   waitScene_ = world_.site("Wait for scene"), waitTick_ = world_.site("Wait for tick"),
                   save_ = world_.site("Save"), writeOut_ = world_.site("Write out"), load_ = world_.site("Load"),
                   decode_ = world_.site("Decode"), waitStore_ = world_.site("Wait for store"),
                   haul_ = world_.site("Haul"), picture_ = world_.site("Picture"), gather_ = world_.site("Gather"),
                   drawSails_ = world_.site("Draw sails"), waitSnapshot_ = world_.site("Wait for snapshot"),
                   present_ = world_.site("Present"), waitGpu_ = world_.site("Wait for GPU"),
                   upload_ = world_.site("Upload"), sceneSite_ = world_.site("Scene"), water_ = world_.site("Water"),
                   foam_ = world_.site("Foam"), waitUpload_ = world_.site("Wait for upload"),
                   pictureFrame_ = world_.site("Picture frame"), unpack_ = world_.site("Unpack");
};

}  // namespace

std::vector<Expected> runEngine(const Settings& settings, fugato::EventSink& sink, const std::set<Trouble>& repaired) {
    return Engine(settings, repaired).run(sink);
}

}  // namespace engines
