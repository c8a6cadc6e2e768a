// SPDX-License-Identifier: GPL-3.0-or-later
#include "sentences.h"

#include <cmath>

#include "format/number_text.h"

namespace fugato {

std::string callsText(double calls) {
    return fixedText(calls, calls < 10 && std::abs(calls - std::round(calls)) > 0.05 ? 1 : 0);
}

const say::WaitTemplates& waitTemplates(SegmentKind kind) {
    switch (kind) {
        case SegmentKind::WaitLock: return say::kWaitLock;
        case SegmentKind::WaitCondition: return say::kWaitCondition;
        case SegmentKind::WaitJob: return say::kWaitJob;
        case SegmentKind::WaitGpu: return say::kWaitGpu;
        case SegmentKind::WaitFile: return say::kWaitFile;
        case SegmentKind::WaitSleep: return say::kWaitSleep;
        case SegmentKind::WaitPacing: return say::kWaitPacing;
        case SegmentKind::Waking: return say::kWaitWaking;
        case SegmentKind::Queued: return say::kWaitQueue;
        case SegmentKind::NoCore: return say::kWaitCore;
        case SegmentKind::Blocked: return say::kWaitBlocked;
        case SegmentKind::Running: return say::kAwaited;
        case SegmentKind::Idle: return say::kNothingRecorded;
        case SegmentKind::WaitOther: break;
    }
    return say::kWaitOther;
}

/// "A", "A and B", "A, B and C".
std::string joined(const std::vector<std::string>& words) {
    std::string out;
    for (size_t i = 0; i < words.size(); ++i) {
        if (i) out += i + 1 == words.size() ? " and " : ", ";
        out += words[i];
    }
    return out;
}

std::string holdersText(const Recording& r, const std::vector<ContentionPart>& contentionParts, size_t most,
                        bool times) {
    auto holders = byHolder(contentionParts);
    const int64_t longest = holders.empty() ? 0 : holders.front().second;
    while (holders.size() > 1 && static_cast<double>(holders.back().second) < kHardlyAny * static_cast<double>(longest))
        holders.pop_back();
    std::vector<std::string> words;
    int64_t rest = 0;
    for (size_t i = 0; i < holders.size(); ++i) {
        const auto [holder, ns] = holders[i];
        if (i < most || holders.size() == most + 1)
            words.push_back(coreHolderText(r, holder) +
                            (times && holders.size() > 1 ? " (" + durationText(ns) + ")" : ""));
        else
            rest += ns;
    }
    if (words.size() < holders.size())
        words.push_back(countText(holders.size() - words.size()) + " more" +
                        (times ? " (" + durationText(rest) + ")" : ""));
    return joined(words);
}

std::string verdictSentence(const Explanation& e) {
    const Figures& f = e.figures;
    if (!f.frames && !e.scope.whole()) return say::kNoneInScope();
    if (!f.frames) return say::kNoFrames();
    if (!f.over && f.frames == 1) return say::kOnlyFrameMet({{"worst", durationText(f.worst)}});
    if (!f.over)
        return say::kAllMet({{"frames", plural(f.frames, "frame", "frames")}, {"worst", durationText(f.worst)}});
    size_t named = 0;
    for (size_t c = 0; c < e.listed; ++c) named += e.causes[c].isNamed();
    return (f.startUpOver ? say::kVerdictStarting : say::kVerdict)(
        {{"frames", plural(f.over, "frame", "frames")},
         {"late", durationText(f.late)},
         {"starting", durationText(f.startUpLate)},
         {"causes", named ? plural(named, "cause", "causes") : say::kNoNamedCause()}});
}

std::string scopeText(const Explanation& e) {
    const Recording& r = *e.recording;
    std::string text;
    if (e.scope.begin > r.begin || e.scope.end <= r.end)
        text = say::kFromTo({{"from", durationText(std::max<int64_t>(0, e.scope.begin - r.begin))},
                             {"to", durationText(std::min(e.scope.end, r.end) - r.begin)}});
    if (!e.scope.stage.empty()) text += (text.empty() ? "" : ", ") + say::kStage({{"stage", e.scope.stage}});
    return text.empty() ? say::kWholeRecording() : text;
}

std::string boundText(const Recording& r, BoundBy by, uint32_t group) {
    const bool on = group != kNone;
    const std::string lane = on ? r.groups[group].name : "";
    switch (by) {
        case BoundBy::Cpu: return (on ? say::kCpuWorkOn : say::kCpuWork)({{"lane", lane}});
        case BoundBy::Gpu: return (on ? say::kGpuWorkOn : say::kGpuWork)({{"lane", lane}});
        case BoundBy::Waiting: return say::kWaiting();
        case BoundBy::NoCore: return say::kCpuContention();
        case BoundBy::Pacing: return say::kDisplaysTick();
    }
    return {};
}

std::string boundPhrase(const Explanation& e) {
    if (!e.figures.over) return {};
    const std::string what = boundText(*e.recording, e.figures.boundBy, e.figures.boundGroup);
    return (2 * e.figures.bound > e.figures.over ? say::kMostlyBound : say::kOftenBound)({{"what", what}});
}

std::string trialSentence(const Explanation& e, const Prediction& p) {
    std::vector<std::string> letters;
    for (const Repair& repair : p.repairs) letters.push_back(e.causes[repair.cause].letter);
    return (p.over ? say::kRepaired
                   : say::kRepairedNone)({{"letters", joined(letters)},
                                          {"frames", plural(p.over, "frame is late", "frames are late")},
                                          {"before", countText(e.figures.over)},
                                          {"late", durationText(p.late)}});
}

std::string causePlace(const Explanation& e, const Cause& cause) {
    const Recording& r = *e.recording;
    if (cause.kind == CauseKind::NoCore)
        return (cause.contention == Contention::OwnThreads       ? say::kAmongOwn
                : cause.contention == Contention::MachineStopped ? say::kStoodStill
                                                                 : say::kByPrograms)();
    const std::string& lane = r.groups[cause.group].name;
    if (cause.path) return r.pathText(cause.path);
    if (cause.kind == CauseKind::Unexplained && !cause.key.outside) return say::kNothingExplains({{"lane", lane}});
    return say::kOutside({{"lane", lane}});
}

std::string causeTitle(const Explanation& e, const Cause& cause) {
    std::string title = causePlace(e, cause);
    if (cause.key.function != kNone) {
        const std::string outside = say::kOutside({{"lane", e.recording->groups[cause.group].name}});
        title = say::kFunctionIn(
            {{"function", e.symbols->nameOf(cause.key.function)}, {"place", cause.path ? title : outside}});
    }
    return cause.key.startUp ? say::kStartingUp({{"cause", title}}) : title;
}

std::string causeKindPhrase(const Explanation& e, const Cause& cause) {
    const std::string& lane = e.recording->groups[cause.group].name;
    switch (cause.kind) {
        case CauseKind::Waiting:
            return (cause.object != kNone ? say::kLockHeldOn : waitTemplates(cause.segment).on)({{"lane", lane}});
        case CauseKind::MoreCalls:
            return say::kMoreCallsPhrase({{"calls", callsText(cause.calls)}, {"usual", callsText(cause.usualCalls)}});
        case CauseKind::Unusual: return say::kNeverUsual();
        case CauseKind::Slower:
            return cause.slowdown > 0 ? say::kEachSlower({{"factor", fixedText(cause.slowdown, 1)}})
                                      : say::kSlowerThanUsual();
        case CauseKind::NoCore: {
            constexpr size_t kMostHolders = 2;
            if (cause.contention == Contention::MachineStopped) return say::kHeldUp({{"lane", lane}});
            return say::kRanWaited(
                {{"holders", holdersText(*e.recording, cause.contentionParts, kMostHolders, false)}, {"lane", lane}});
        }
        case CauseKind::Unexplained:
            if (cause.function != kNone)
                return say::kInStacks({{"samples", countText(cause.samples)}, {"stacks", countText(cause.ofSamples)}});
            return (cause.path ? say::kBetweenInner : cause.key.outside ? say::kMarkerWouldTell : say::kRecordMore)();
    }
    return {};
}

std::string argumentWords(const CauseArgument& argument) {
    return (argument.marker.empty() ? say::kArgument : say::kArgumentOf)(
        {{"key", argument.key}, {"marker", argument.marker}, {"value", argument.value}});
}

std::string smallerCausesText(const Explanation& e) {
    int64_t late = 0;
    for (size_t c = e.listed; c < e.causes.size(); ++c) late += e.causes[c].late;
    return say::kSmallerCauses({{"causes", plural(e.causes.size() - e.listed, "smaller cause", "smaller causes")},
                                {"late", durationText(late)}});
}

std::string whatIfSentence(const Explanation& e, const Prediction& p, uint32_t selected) {
    std::string repairs;
    bool known = false;
    size_t frames = 0, saved = 0;  // of the causes' own frames
    std::vector<bool> counted(e.frames.size());
    for (const Repair& repair : p.repairs) {
        const Cause& cause = e.causes[repair.cause];
        known |= cause.isNamed() || p.saved > 0;
        for (const uint32_t frame : cause.frames) {
            if (counted[frame]) continue;
            counted[frame] = true;
            ++frames;
            saved += p.overrun[frame] == 0;
        }
    }
    if (!known) return say::kMoreMarkers();
    const Repair& first = p.repairs.front();
    const CauseKind kind = e.causes[first.cause].kind;
    if (p.repairs.size() > 1 || (selected != kNone && first.cause != selected)) {
        std::vector<std::string> usual, gone;
        for (const Repair& repair : p.repairs) (repair.gone ? gone : usual).push_back(e.causes[repair.cause].letter);
        const bool one = usual.size() == 1;
        const Template& words = usual.empty()  ? say::kWithout
                                : gone.empty() ? (one ? say::kIfUsual : say::kIfUsualAll)
                                               : (one ? say::kWithoutIfUsual : say::kWithoutIfUsualAll);
        repairs = words({{"gone", joined(gone)}, {"letters", joined(usual.empty() ? gone : usual)}});
    } else if (first.gone || kind == CauseKind::Unusual) {
        repairs = say::kWithoutThis();
    } else {
        repairs = kind == CauseKind::NoCore ? say::kWithCore() : say::kIfThisUsual();
    }
    const Template& result = frames == 1            ? (saved ? say::kOneSaved : say::kOneStillLate)
                             : p.repairs.size() > 1 ? say::kSavedOfTheir
                                                    : say::kSavedOfIts;
    std::string out = result({{"repair", repairs}, {"saved", countText(saved)}, {"frames", countText(frames)}});
    if (p.saved > saved)
        out = say::kAndLater({{"saved", out}, {"later", plural(p.saved - saved, "later one", "later ones")}});
    if (!p.over) return say::kAndNoneLate({{"saved", out}});
    const bool next = p.nextCause != kNone;
    return (next ? say::kAndStayMost
                 : say::kAndStay)({{"saved", out},
                                   {"frames", plural(p.over, "frame stays late", "frames stay late")},
                                   {"letter", next ? e.causes[p.nextCause].letter : std::string()}});
}

std::string partTitle(const Recording& r, const PartKey& key) {
    const std::string& lane = r.groups[key.group].name;
    if (key.kind == SegmentKind::Idle) return say::kPartIdle({{"lane", lane}});
    if (key.kind == SegmentKind::NoCore)
        return say::kPartContention({{"lane", lane}, {"holder", coreHolderText(r, key.coreHolder)}});
    if (!key.path) return say::kOutside({{"lane", lane}});
    std::string title = r.pathText(key.path);
    switch (key.kind) {
        case SegmentKind::Waking: return say::kPartWaking({{"path", title}});
        case SegmentKind::Queued: return say::kPartQueued({{"path", title}});
        case SegmentKind::Blocked: return say::kPartBlocked({{"path", title}});
        default: return title;
    }
}

}  // namespace fugato
