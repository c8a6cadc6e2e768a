// SPDX-License-Identifier: MIT
#include "moments.hpp"

#include <algorithm>
#include <cstring>
#include <new>
#include <vector>

#include "drain.hpp"
#include "run_context.hpp"

namespace fugato::recording {

using namespace layout;

namespace {

constexpr size_t kUsualOf = 101;  // frames, whose median is what is usual
constexpr size_t kFewestUsual = 20;
constexpr uint64_t kDeadlineNs = 16'666'667;  // where none was told: 60 frames a second

std::string millisecondsText(uint64_t ns) {
    const uint64_t tenths = (ns + 50'000) / 100'000;
    return std::to_string(tenths / 10) + "." + std::to_string(tenths % 10) + " ms";
}

uint64_t nsOf(double seconds, uint64_t otherwise) {
    return seconds > 0 && seconds < 1e6 ? static_cast<uint64_t>(seconds * 1e9) : otherwise;
}

}  // namespace

MomentPlan momentPlanOf(const fug_moments& told) {
    fug_moments moments{};
    std::memcpy(&moments, &told, told.size && told.size < sizeof moments ? told.size : sizeof moments);
    MomentPlan plan;
    plan.beforeNs = nsOf(moments.before_s, plan.beforeNs);
    plan.afterNs = nsOf(moments.after_s, plan.afterNs);
    plan.pauseNs = nsOf(moments.pause_s, plan.pauseNs);
    if (moments.most_saves) plan.mostSaves = moments.most_saves;
    plan.frameNs = nsOf(moments.frame_ms / 1000, 0);
    if (moments.times_usual > 1) plan.timesUsual = moments.times_usual;
    if (moments.late_frames && moments.late_frames <= moments.out_of && moments.out_of <= kMostOutOf) {
        plan.lateFrames = moments.late_frames;
        plan.outOf = moments.out_of;
    }
    plan.errors = moments.errors != 0;
    return plan;
}

Moments::Moments(const MomentPlan& plan, std::string path, double nsPerTick)
    : plan_(plan), path_(std::move(path)), nsPerTick_(nsPerTick) {}

Moments::~Moments() { finish(); }

void Moments::see(uint32_t lane, const RawEvent& event, uint64_t deadlineNs, uint64_t now) {
    switch (event.kind) {
        case Kind::FrameBegin:
        case Kind::FrameTick:
        case Kind::FrameEnd: {
            const std::pair key(lane, event.id);
            if (const auto begun = open_.find(key); begun != open_.end()) {
                const uint64_t ticks = event.ticks - std::min(event.ticks, begun->second.begin);
                if (event.kind != Kind::FrameBegin)
                    frame(event.id, static_cast<uint64_t>(static_cast<double>(ticks) * nsPerTick_),
                          begun->second.deadlineNs, now);
                open_.erase(begun);
            }
            if (event.kind != Kind::FrameEnd) open_[key] = {event.ticks, deadlineNs};
            break;
        }
        case Kind::Point:
        case Kind::PointCode:
            if (plan_.errors && event.id >= FUG_ERROR)
                happened(event.text.empty() ? "an error was told" : "error: " + std::string(event.text), now);
            break;
        default: break;
    }
}

void Moments::frame(uint32_t series, uint64_t ns, uint64_t deadlineNs, uint64_t now) {
    Series& s = series_[series];
    if (plan_.frameNs && ns > plan_.frameNs)
        happened("a frame took " + millisecondsText(ns) + ", more than " + millisecondsText(plan_.frameNs), now);
    if (plan_.timesUsual > 0) {
        if (s.durations.size() >= kFewestUsual) {
            std::vector<uint64_t> sorted(s.durations.begin(), s.durations.end());
            const auto middle = sorted.begin() + static_cast<ptrdiff_t>(sorted.size() / 2);
            std::nth_element(sorted.begin(), middle, sorted.end());
            if (static_cast<double>(ns) > static_cast<double>(*middle) * plan_.timesUsual)
                happened(
                    "a frame took " + millisecondsText(ns) + ", the median before it is " + millisecondsText(*middle),
                    now);
        }
        s.durations.push_back(ns);
        if (s.durations.size() > kUsualOf) s.durations.pop_front();
    }
    if (plan_.outOf) {
        s.late.push_back(ns > (deadlineNs ? deadlineNs : kDeadlineNs));
        s.lateFrames += s.late.back();
        if (s.late.size() > plan_.outOf) {
            s.lateFrames -= s.late.front();
            s.late.pop_front();
        }
        if (s.late.back() && s.lateFrames >= plan_.lateFrames)
            happened(std::to_string(s.lateFrames) + " of " + std::to_string(s.late.size()) + " frames were late", now);
    }
}

void Moments::happened(std::string why, uint64_t now) {
    if (!because_.empty() || saves_ >= plan_.mostSaves || now < notBefore_) return;
    because_ = std::move(why);
    saveAt_ = now + plan_.afterNs;
}

bool Moments::due(uint64_t now, bool atOnce) const {
    return !because_.empty() && (now >= saveAt_ || atOnce) && (!job_ || job_->done.load());
}

void Moments::save(const MemorySink& held, std::string definitions, uint32_t count, uint64_t now) {
    finish();
    auto job = std::make_unique<Job>();
    job->held = held;
    job->path = path_;
    job->result.number = saves_ + 1;
    job->result.because = because_;
    job->definitions = std::move(definitions);
    job->count = count;
    for (const auto& [key, value] : {std::pair<std::string_view, std::string>(kRecordingIdKey, randomUuid()),
                                     {"buffers", ""},
                                     {"saved because", because_}}) {
        appendFact(job->definitions, key, value);
        ++job->count;
    }
    because_.clear();
    notBefore_ = now + plan_.pauseNs;
    ++saves_;
    job_ = std::move(job);
    if (startThread(writer_, write, job_.get())) return;
    write(job_.get());  // no thread can be had: then here
}

void* Moments::write(void* argument) {
    Job& job = *static_cast<Job*>(argument);
    const InsideRecorder here;
    try {
        CreatedFile created = createRecording(job.path, Existing::Keep);
        job.result.path = created.path;
        int error = created.error;
        if (!error) {
            FileSink file(std::move(created.file));
            const bool good = job.held.putInto(file, {BlockType::Definitions, 0, job.count, 0, 0, 0, job.definitions});
            if (!file.finish({}) || !good) error = file.error();
        }
        if (error)
            job.result.trouble = "the moment could not be saved to " + job.path + ": " +
                                 (created.why.empty() ? std::strerror(error) : created.why);
    } catch (const std::bad_alloc&) {
        job.result.trouble = "no memory";
    }
    job.done.store(true);
    return nullptr;
}

void Moments::finish() {
    if (!job_) return;
    if (writer_ != pthread_t{}) pthread_join(writer_, nullptr);
    writer_ = {};
    saved_ = job_->result;
    job_.reset();
}

const Moments::Saved& Moments::saved() {
    if (job_ && job_->done.load()) finish();
    return saved_;
}

}  // namespace fugato::recording
