// SPDX-License-Identifier: GPL-3.0-or-later
#include "usual.h"

#include <algorithm>
#include <atomic>
#include <bit>
#include <map>
#include <numeric>

#include "core/store/side_by_side.h"

namespace fugato {

namespace {

constexpr size_t kEnoughInScope = 30;  // frames in budget
constexpr size_t kFewestForBaseline = 8;
constexpr size_t kMostForBaseline = 4096;  // medians of more frames would not differ
constexpr size_t kDriftParts = 8;
constexpr size_t kFewestForDrift = 256;
constexpr double kDrift = 0.1;  // of the usual work: from here on the parts of a stage are told apart
constexpr double kHigh = 0.95;
constexpr double kRare = 0.08;        // of the usual frames
constexpr size_t kDurations = 256;    // a median rests on so many
constexpr uint32_t kJustBefore = 16;  // frames
static_assert(kSampleFrames <= 64);   // UsualOccurrence::presentIn

std::vector<uint32_t> spreadOver(const std::vector<uint32_t>& frames, size_t most) {
    const size_t count = std::min(most, frames.size());
    std::vector<uint32_t> out(count);
    for (size_t i = 0; i < count; ++i) out[i] = frames[i * frames.size() / count];
    return out;
}

/// CPU contention hits different parts in every frame, so that the median of each part is often 0: usual is the median
/// of all that is one contention's doing, shared out among its parts as their sums are.
class UsualContention {
public:
    explicit UsualContention(const std::vector<PartKey>& keys) : of_(keys.size()), sums_(keys.size()) {
        for (size_t key = 0; key < keys.size(); ++key)
            if (keys[key].kind == SegmentKind::NoCore) of_[key] = contentionBy(keys[key].coreHolder);
    }
    bool has(uint32_t key) const { return of_[key] != Contention::None; }
    void add(uint32_t key, int64_t ns) {
        sums_[key] += ns;
        ofFrame_[index(key)] += ns;
    }
    void endFrame() {
        for (size_t c = 0; c < kContentions; ++c)
            if (ofFrame_[c]) times_[c].push_back(ofFrame_[c]);
        ofFrame_ = {};
    }
    void finish(Baseline& baseline, size_t frames) {
        std::array<int64_t, kContentions> all{}, usual{}, given{};
        std::array<uint32_t, kContentions> largest;  // key
        largest.fill(kNone);
        for (uint32_t key = 0; key < of_.size(); ++key) {
            if (!has(key)) continue;
            all[index(key)] += sums_[key];
            if (uint32_t& most = largest[index(key)]; most == kNone || sums_[key] > sums_[most]) most = key;
        }
        for (size_t c = 1; c < kContentions; ++c) {
            usual[c] = quantileWithZeros(times_[c], frames, 0.5);
            baseline.contentionHigh[c] = quantileWithZeros(times_[c], frames, kHigh);
        }
        for (uint32_t key = 0; key < of_.size(); ++key) {
            const size_t c = index(key);
            if (!has(key) || !usual[c]) continue;
            baseline.usual[key] = static_cast<int64_t>(static_cast<double>(usual[c]) * static_cast<double>(sums_[key]) /
                                                       static_cast<double>(all[c]));
            given[c] += baseline.usual[key];
        }
        for (size_t c = 1; c < kContentions; ++c)
            if (usual[c]) baseline.usual[largest[c]] += usual[c] - given[c];
        for (uint32_t key = 0; key < of_.size(); ++key)
            if (has(key)) baseline.high[key] = baseline.usual[key];
    }

private:
    size_t index(uint32_t key) const { return static_cast<size_t>(of_[key]); }
    std::vector<Contention> of_;  // by key
    std::vector<int64_t> sums_;
    std::array<int64_t, kContentions> ofFrame_{};
    std::array<std::vector<int64_t>, kContentions> times_;  // of the frames that have any
};

/// What is usual of each part over some frames.
void findUsualTimes(Baseline& baseline, const CriticalPathSums& pathSums, const std::vector<uint32_t>& frames) {
    std::vector<std::vector<int64_t>> times(pathSums.keys.size());
    UsualContention contention(pathSums.keys);
    for (const uint32_t frame : frames) {
        for (const Part& part : pathSums.partsOf(frame)) {
            if (contention.has(part.key))
                contention.add(part.key, part.ns);
            else
                times[part.key].push_back(part.ns);
        }
        contention.endFrame();
    }
    baseline.usual.resize(times.size());
    baseline.high.resize(times.size());
    if (frames.empty()) return;
    for (uint32_t key = 0; key < times.size(); ++key) {
        if (contention.has(key)) continue;
        baseline.usual[key] = quantileWithZeros(times[key], frames.size(), 0.5);
        baseline.high[key] = quantileWithZeros(times[key], frames.size(), kHigh);
    }
    contention.finish(baseline, frames.size());
    for (uint32_t key = 0; key < times.size(); ++key) {
        baseline.total += baseline.usual[key];
        if (baseline.usual[key]) baseline.usualKeys.push_back(key);
    }
}

/// The same of how often each marker occurs.
void findUsualCalls(Baseline& baseline, const CriticalPathSums& pathSums, const std::vector<uint32_t>& frames) {
    std::vector<std::vector<uint32_t>> calls(pathSums.places.size());
    for (const uint32_t frame : frames)
        for (const Calls& call : pathSums.callsOf(frame)) calls[call.place].push_back(call.count);
    baseline.usualCalls.resize(calls.size());
    if (frames.empty()) return;
    for (size_t place = 0; place < calls.size(); ++place)
        baseline.usualCalls[place] = quantileWithZeros(calls[place], frames.size(), 0.5);
}

/// Where what is usual changes in the course of `good` frames, they are told apart in parts, one after another.
std::vector<std::vector<uint32_t>> partsOf(const Explanation& e, const std::vector<uint32_t>& good) {
    if (good.size() < kFewestForDrift) return {good};
    std::vector<std::vector<uint32_t>> parts(kDriftParts);
    std::vector<int64_t> middles, all;
    for (size_t i = 0; i < kDriftParts; ++i) {
        parts[i].assign(good.begin() + static_cast<std::ptrdiff_t>(good.size() * i / kDriftParts),
                        good.begin() + static_cast<std::ptrdiff_t>(good.size() * (i + 1) / kDriftParts));
        std::vector<int64_t> work;
        for (const uint32_t frame : spreadOver(parts[i], kMostForBaseline)) work.push_back(e.frames[frame].work);
        middles.push_back(quantileWithZeros(work, work.size(), 0.5));
    }
    const auto [least, most] = std::minmax_element(middles.begin(), middles.end());
    all = middles;
    const int64_t middle = quantileWithZeros(all, all.size(), 0.5);
    const bool drifts = static_cast<double>(*most - *least) > kDrift * static_cast<double>(middle);
    return drifts ? parts : std::vector<std::vector<uint32_t>>{good};
}

}  // namespace

void makeBaselines(Explanation& e) {
    const auto& frames = e.recording->series[e.series].frames;
    std::map<std::string, std::vector<uint32_t>> byStage, goodByStage;
    std::vector<uint32_t> good;
    const auto inside = static_cast<size_t>(std::count_if(
        e.frames.begin(), e.frames.end(), [](const FrameVerdict& v) { return !v.outside && !v.overrun; }));
    const bool enoughInside = inside >= kEnoughInScope;
    for (uint32_t i = 0; i < frames.size(); ++i) {
        const StateSpan* stage = e.recording->stageAt(frames[i].begin);
        const std::string name(stage ? e.recording->text(stage->value) : std::string_view());
        byStage[name].push_back(i);
        // Frames outside the scope were not judged; they are compared with only where there are too few inside.
        const bool late = e.frames[i].outside ? frames[i].duration() > e.frames[i].deadline : e.frames[i].overrun > 0;
        if (late || (e.frames[i].outside && enoughInside)) continue;
        good.push_back(i);
        goodByStage[name].push_back(i);
    }
    bool onlyLate = false;
    if (good.empty()) {  // nothing met its deadline: the quickest quarter has to do
        onlyLate = true;
        good.resize(frames.size());
        std::iota(good.begin(), good.end(), 0u);
        std::stable_sort(good.begin(), good.end(),
                         [&](uint32_t a, uint32_t b) { return frames[a].duration() < frames[b].duration(); });
        good.resize((good.size() + 3) / 4);
        std::sort(good.begin(), good.end());
    }
    std::vector<std::vector<uint32_t>> restOn;  // by baseline: the frames from which it is worked out
    /// Adds the baselines of one stage and gives them to its frames.
    const auto add = [&](const std::vector<uint32_t>& from, const std::vector<uint32_t>& members,
                         const std::string& stage) {
        const auto parts = onlyLate ? std::vector<std::vector<uint32_t>>{from} : partsOf(e, from);
        auto first = static_cast<uint32_t>(e.baselines.size());
        for (const auto& part : parts) {
            Baseline& baseline = e.baselines.emplace_back();
            baseline.stage = stage;
            baseline.frames = part.size();
            baseline.onlyLate = onlyLate;
            baseline.changes = parts.size() > 1;
            std::vector<int64_t> durations;
            for (const uint32_t frame : spreadOver(part, kMostForBaseline))
                durations.push_back(frames[frame].duration());
            baseline.median = quantileWithZeros(durations, durations.size(), 0.5);
            baseline.sample = spreadOver(part, kSampleFrames);
            restOn.push_back(spreadOver(part, kMostForBaseline));
        }
        size_t at = 0;
        for (const uint32_t frame : members) {  // ascending
            while (at + 1 < parts.size() && frame > parts[at].back()) ++at;
            e.frames.change(frame).baseline = first + static_cast<uint32_t>(at);
        }
    };
    std::vector<uint32_t> others;  // frames of stages with too few good ones
    for (const auto& [stage, members] : byStage) {
        const auto& ofStage = goodByStage[stage];
        if (byStage.size() > 1 && ofStage.size() >= kFewestForBaseline)
            add(ofStage, members, stage);
        else
            others.insert(others.end(), members.begin(), members.end());
    }
    std::sort(others.begin(), others.end());
    if (!others.empty()) add(good, others, "");
    std::atomic<size_t> next{0};
    sideBySide(threadsFor(frames.size() / kMostForBaseline), [&](size_t) {
        for (size_t i; (i = next++) < 2 * restOn.size();)
            (i % 2 ? findUsualCalls : findUsualTimes)(e.baselines[i / 2], *e.pathSums, restOn[i / 2]);
    });
    e.occurrences = std::make_shared<UsualOccurrences>(e.baselines.size());
    e.usualOver = static_cast<uint32_t>(e.frames.size());
}

bool continueBaselines(Explanation& e, uint32_t stands) {
    std::map<std::string, uint32_t> latest;
    for (uint32_t b = 0; b < e.baselines.size(); ++b) {
        Baseline& baseline = e.baselines[b];
        latest[baseline.stage] = b;
        baseline.usual.resize(e.pathSums->keys.size());  // what is new is not usual
        baseline.high.resize(e.pathSums->keys.size());
        baseline.usualCalls.resize(e.pathSums->places.size());
    }
    for (uint32_t i = stands; i < e.frames.size(); ++i) {
        const StateSpan* stage = e.recording->stageAt(e.frame(i).begin);
        auto found = latest.find(std::string(stage ? e.recording->text(stage->value) : std::string_view()));
        if (found == latest.end()) found = latest.find("");
        if (found == latest.end()) return false;
        e.frames.change(i).baseline = found->second;
    }
    return true;
}

static uint64_t occurrenceKey(uint32_t group, PathId path) { return static_cast<uint64_t>(group) << 32 | path; }

std::vector<uint64_t> justBeforeLate(const Explanation& e) {
    std::vector<uint64_t> bits(e.baselines.size());
    for (size_t b = 0; b < e.baselines.size(); ++b) {
        const auto& sample = e.baselines[b].sample;
        for (size_t i = 0; i < sample.size(); ++i)
            for (uint32_t f = sample[i] + 1; f < e.frames.size() && f - sample[i] <= kJustBefore; ++f)
                if (e.frames[f].overrun) bits[b] |= uint64_t{1} << i;
    }
    return bits;
}

bool isRare(const Explanation& e, const UsualOccurrence& usual, uint32_t frame,
            const std::vector<uint64_t>& beforeLate) {
    const uint32_t baseline = e.frames[frame].baseline;
    const auto& sample = e.baselines[baseline].sample;
    const auto all = static_cast<int>(sample.size());
    const int aside = std::popcount(beforeLate[baseline]);
    if (all - aside >= static_cast<int>(kFewestForBaseline))
        return std::popcount(usual.presentIn & ~beforeLate[baseline]) <= kRare * (all - aside);
    // Late frames are everywhere: then only those before this one are left out.
    int present = 0, counted = 0;
    for (size_t i = 0; i < sample.size(); ++i) {
        if (sample[i] <= frame && frame - sample[i] <= kJustBefore) continue;
        ++counted;
        present += static_cast<int>(usual.presentIn >> i & 1);
    }
    return present <= kRare * counted;
}

/// All markers of the sample's frames at once.
static std::unordered_map<uint64_t, UsualOccurrence> occurrencesIn(const Explanation& e, uint32_t baseline) {
    const Recording& r = *e.recording;
    const auto& sample = e.baselines[baseline].sample;
    struct Sum {
        std::vector<uint32_t> counts;  // by frame of the sample
        int64_t ns = 0;
        uint64_t number = 0;
        std::vector<int64_t> durations;  // of the first ones
    };
    // Several ranges of the sample side by side.
    const size_t threads = threadsFor(sample.size() / 8);
    std::vector<std::unordered_map<uint64_t, Sum>> parts(threads);
    sideBySide(threads, [&](size_t thread) {
        auto& sums = parts[thread];
        for (size_t i = sample.size() * thread / threads; i < sample.size() * (thread + 1) / threads; ++i) {
            // With what other lanes do until the next frame begins, where that is soon.
            const Frame& f = e.frame(sample[i]);
            const auto& frames = r.series[e.series].frames;
            const int64_t soon = f.begin + 2 * std::max(f.duration(), e.frames[sample[i]].deadline);
            const int64_t end = sample[i] + 1 < frames.size() && frames[sample[i] + 1].begin < soon
                                    ? std::max(f.end, frames[sample[i] + 1].begin)
                                    : f.end;
            for (const Lane& lane : r.lanes)
                for (const MarkerRow& row : lane.rows) {
                    const auto [from, to] = row.overlapping(f.begin, end);
                    if (from == to) break;  // and so nothing is nested
                    row.forEach(from, to, [&](uint32_t, int64_t, int64_t duration, uint32_t path, uint8_t) {
                        Sum& sum = sums[occurrenceKey(lane.group, row.pathOf(path))];
                        sum.counts.resize(sample.size());
                        ++sum.counts[i];
                        sum.ns += duration;
                        ++sum.number;
                        if (sum.durations.size() < kDurations) sum.durations.push_back(duration);
                    });
                }
        }
    });
    auto& sums = parts.front();
    for (size_t part = 1; part < parts.size(); ++part)
        for (auto& [key, more] : parts[part]) {
            Sum& sum = sums[key];
            sum.counts.resize(sample.size());
            for (size_t i = 0; i < sample.size(); ++i) sum.counts[i] += more.counts[i];
            sum.ns += more.ns;
            sum.number += more.number;
            const size_t room = std::min(kDurations - sum.durations.size(), more.durations.size());
            sum.durations.insert(sum.durations.end(), more.durations.begin(),
                                 more.durations.begin() + static_cast<std::ptrdiff_t>(room));
        }
    std::unordered_map<uint64_t, UsualOccurrence> known;
    for (auto& [key, sum] : sums) {
        UsualOccurrence& usual = known[key];
        for (size_t i = 0; i < sum.counts.size(); ++i) usual.presentIn |= uint64_t{sum.counts[i] > 0} << i;
        usual.calls = quantileWithZeros(sum.counts, sample.size(), 0.5);
        usual.mostCalls = quantileWithZeros(sum.counts, sample.size(), kHigh);
        usual.middleNs = static_cast<double>(quantileWithZeros(sum.durations, sum.durations.size(), 0.5));
        usual.meanNs = static_cast<double>(sum.ns) / static_cast<double>(sum.number);
    }
    return known;
}

UsualOccurrence UsualOccurrences::of(const Explanation& e, uint32_t baseline, uint32_t group, PathId path) {
    if (!path) return {};
    Known& known = known_[baseline];
    // Not call_once: an exception may not pass through the C library where memory is short (it loads a library then).
    const Lock guard(known.mutex);
    if (!known.ready) known.of = occurrencesIn(e, baseline);
    known.ready = true;
    const auto found = known.of.find(occurrenceKey(group, path));
    return found == known.of.end() ? UsualOccurrence{} : found->second;
}

}  // namespace fugato
