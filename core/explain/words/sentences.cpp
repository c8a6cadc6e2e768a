// SPDX-License-Identifier: GPL-3.0-or-later
#include "sentences.h"

#include <cmath>

#include "format/number_text.h"

namespace fugato {

std::string callsText(double calls) {
    return fixedText(calls, calls < 10 && std::abs(calls - std::round(calls)) > 0.05 ? 1 : 0);
}

const char* waitedFor(SegmentKind kind) {
    switch (kind) {
        case SegmentKind::WaitLock: return "waits for a lock";
        case SegmentKind::WaitCondition: return "waits for a condition";
        case SegmentKind::WaitJob: return "waits for a job";
        case SegmentKind::WaitGpu: return "waits for the GPU";
        case SegmentKind::WaitFile: return "waits for a file";
        case SegmentKind::WaitSleep: return "sleeps";
        case SegmentKind::WaitPacing: return "waits for the next tick";
        case SegmentKind::Waking: return "wakes up late";
        case SegmentKind::Queued: return "waits in a queue";
        case SegmentKind::Idle: return "nothing recorded";
        case SegmentKind::NoCore: return "waits for a core";
        case SegmentKind::Blocked: return "was blocked";
        case SegmentKind::Running: return "is waited for";
        default: return "waits";
    }
}

const char* pastOf(SegmentKind kind) {
    switch (kind) {
        case SegmentKind::WaitLock: return "waited for a lock";
        case SegmentKind::WaitCondition: return "waited for a condition";
        case SegmentKind::WaitJob: return "waited for a job";
        case SegmentKind::WaitGpu: return "waited for the GPU";
        case SegmentKind::WaitFile: return "waited for a file";
        case SegmentKind::WaitSleep: return "slept";
        case SegmentKind::WaitPacing: return "waited for the next tick";
        case SegmentKind::Waking: return "woke up late by";
        case SegmentKind::Queued: return "waited in a queue";
        case SegmentKind::NoCore: return "waited for a core";
        case SegmentKind::Blocked: return "was blocked";
        case SegmentKind::Running: return "ran";
        case SegmentKind::Idle:
        case SegmentKind::WaitOther: return "waited";
    }
    return "waited";
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
    if (!f.frames && !e.scope.whole()) return "No frame begins in what is to be explained alone.";
    if (!f.frames) return "No frames were recorded, so nothing can be late.";
    if (!f.over && f.frames == 1) return "Its only frame met its deadline; it took " + durationText(f.worst);
    if (!f.over)
        return "Every one of " + plural(f.frames, "frame", "frames") + " met its deadline; the slowest took " +
               durationText(f.worst);
    size_t named = 0;
    for (size_t c = 0; c < e.listed; ++c) named += e.causes[c].isNamed();
    return plural(f.over, "frame", "frames") + " over budget, " + durationText(f.late) + " late in all" +
           (f.startUpOver ? " (" + durationText(f.startUpLate) + " of it starting up)" : "") + ", from " +
           (named ? plural(named, "cause", "causes") : "no cause that was recorded");
}

std::string scopeText(const Explanation& e) {
    const Recording& r = *e.recording;
    std::string text;
    if (e.scope.begin > r.begin || e.scope.end <= r.end)
        text = "from " + durationText(std::max<int64_t>(0, e.scope.begin - r.begin)) + " to " +
               durationText(std::min(e.scope.end, r.end) - r.begin);
    if (!e.scope.stage.empty()) text += (text.empty() ? "stage " : ", stage ") + e.scope.stage;
    return text.empty() ? "the whole recording" : text;
}

std::string boundText(const Recording& r, BoundBy by, uint32_t group) {
    const std::string on = group == kNone ? std::string() : " on " + r.groups[group].name;
    switch (by) {
        case BoundBy::Cpu: return "CPU work" + on;
        case BoundBy::Gpu: return "GPU work" + on;
        case BoundBy::Waiting: return "waiting";
        case BoundBy::NoCore: return "CPU contention";
        case BoundBy::Pacing: return "the display's tick";
    }
    return {};
}

std::string boundPhrase(const Explanation& e) {
    if (!e.figures.over) return {};
    return (2 * e.figures.bound > e.figures.over ? "mostly bound by " : "often bound by ") +
           boundText(*e.recording, e.figures.boundBy, e.figures.boundGroup);
}

std::string trialSentence(const Explanation& e, const Prediction& p) {
    std::vector<std::string> letters;
    for (const Repair& repair : p.repairs) letters.push_back(e.causes[repair.cause].letter);
    const std::string with = "With " + joined(letters) + " repaired ";
    if (!p.over) return with + "no frame is late, instead of " + countText(e.figures.over);
    return with + plural(p.over, "frame is", "frames are") + " late instead of " + countText(e.figures.over) + ", " +
           durationText(p.late) + " in all";
}

std::string causePlace(const Explanation& e, const Cause& cause) {
    const Recording& r = *e.recording;
    if (cause.kind == CauseKind::NoCore)
        return cause.contention == Contention::OwnThreads       ? "CPU contention among own threads"
               : cause.contention == Contention::MachineStopped ? "The machine stood still"
                                                                : "CPU contention by other programs";
    const std::string& lane = r.groups[cause.group].name;
    if (cause.path) return r.pathText(cause.path);
    if (cause.kind == CauseKind::Unexplained && !cause.key.outside)
        return "Nothing recorded explains it (" + lane + ")";
    return lane + ", outside any marker";
}

std::string causeTitle(const Explanation& e, const Cause& cause) {
    const std::string outside = e.recording->groups[cause.group].name + ", outside any marker";
    return (cause.key.startUp ? "Starting up: " : "") +
           (cause.key.function == kNone
                ? causePlace(e, cause)
                : e.symbols->nameOf(cause.key.function) + " in " + (cause.path ? causePlace(e, cause) : outside));
}

std::string causeKindPhrase(const Explanation& e, const Cause& cause) {
    const std::string& lane = e.recording->groups[cause.group].name;
    switch (cause.kind) {
        case CauseKind::Waiting:
            return cause.object != kNone ? "waits: lock held on " + lane
                                         : std::string(waitedFor(cause.segment)) + " on " + lane;
        case CauseKind::MoreCalls:
            return "more calls: " + callsText(cause.calls) + ", usually " + callsText(cause.usualCalls);
        case CauseKind::Unusual: return "never in a usual frame";
        case CauseKind::Slower:
            return cause.slowdown > 0 ? "each call slower: ×" + fixedText(cause.slowdown, 1) : "slower than usual";
        case CauseKind::NoCore: {
            constexpr size_t kMostHolders = 2;
            if (cause.contention == Contention::MachineStopped) return "held up " + lane;
            return holdersText(*e.recording, cause.contentionParts, kMostHolders, false) + " ran, " + lane + " waited";
        }
        case CauseKind::Unexplained:
            if (cause.function != kNone)
                return "no marker; in " + countText(cause.samples) + " of " + countText(cause.ofSamples) +
                       " call stacks";
            return cause.path          ? "longer, between its inner markers"
                   : cause.key.outside ? "longer; a marker there would tell more"
                                       : "record more here to learn why";
    }
    return {};
}

std::string argumentWords(const CauseArgument& argument) {
    return argument.key + (argument.marker.empty() ? "" : " of ‘" + argument.marker + "’") + " = " + argument.value;
}

std::string smallerCausesText(const Explanation& e) {
    int64_t late = 0;
    for (size_t c = e.listed; c < e.causes.size(); ++c) late += e.causes[c].late;
    return plural(e.causes.size() - e.listed, "smaller cause", "smaller causes") + ": " + durationText(late) +
           " late in all";
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
    if (!known) return "Markers inside it would tell more.";
    const Repair& first = p.repairs.front();
    const CauseKind kind = e.causes[first.cause].kind;
    if (p.repairs.size() > 1 || (selected != kNone && first.cause != selected)) {
        std::vector<std::string> usual, gone;
        for (const Repair& repair : p.repairs) (repair.gone ? gone : usual).push_back(e.causes[repair.cause].letter);
        if (!gone.empty()) repairs = "Without " + joined(gone);
        if (!usual.empty())
            repairs += (gone.empty() ? "If " : " and if ") + joined(usual) +
                       (usual.size() == 1 ? " took its usual time" : " took their usual time");
    } else if (first.gone || kind == CauseKind::Unusual) {
        repairs = "Without this";
    } else {
        repairs = kind == CauseKind::NoCore ? "With a core at once" : "If this took its usual time";
    }
    std::string out = repairs + ", ";
    if (frames == 1)
        out += saved ? "its late frame would meet its deadline" : "its frame would still be late";
    else
        out += countText(saved) + " of " + (p.repairs.size() > 1 ? "their " : "its ") + countText(frames) +
               " late frames would meet their deadline";
    if (p.saved > saved) out += ", and so would " + plural(p.saved - saved, "later one", "later ones");
    if (!p.over) return out + ", and no frame would be late.";
    out += "; " + plural(p.over, "frame stays late", "frames stay late");
    if (p.nextCause != kNone) out += ", most of all from " + e.causes[p.nextCause].letter;
    return out + ".";
}

std::string partTitle(const Recording& r, const PartKey& key) {
    const std::string& lane = r.groups[key.group].name;
    if (key.kind == SegmentKind::Idle) return "nothing recorded on " + lane;
    if (key.kind == SegmentKind::NoCore) return lane + ", CPU contention with " + coreHolderText(r, key.coreHolder);
    if (!key.path) return lane + ", outside any marker";
    const std::string title = r.pathText(key.path);
    switch (key.kind) {
        case SegmentKind::Waking: return title + ", waking up";
        case SegmentKind::Queued: return title + ", in the queue";
        case SegmentKind::Blocked: return title + ", blocked";
        default: return title;
    }
}

}  // namespace fugato
