// SPDX-License-Identifier: GPL-3.0-or-later
#include "sentences.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "certainty.h"
#include "comes_before.h"
#include "earlier_stage.h"
#include "format/number_text.h"

namespace fugato {

namespace {

std::string callsText(double calls) {
    return fixedText(calls, calls < 10 && std::abs(calls - std::round(calls)) > 0.05 ? 1 : 0);
}

const char* waitedFor(PieceKind kind) {
    switch (kind) {
        case PieceKind::WaitLock: return "waits for a lock";
        case PieceKind::WaitCondition: return "waits for a condition";
        case PieceKind::WaitJob: return "waits for a job";
        case PieceKind::WaitGpu: return "waits for the GPU";
        case PieceKind::WaitFile: return "waits for a file";
        case PieceKind::WaitSleep: return "sleeps";
        case PieceKind::WaitPacing: return "waits for the next tick";
        case PieceKind::Waking: return "wakes up late";
        case PieceKind::Queued: return "waits in a queue";
        case PieceKind::Idle: return "nothing recorded";
        case PieceKind::NoCore: return "got no core";
        case PieceKind::Blocked: return "was stopped by the system";
        case PieceKind::Running: return "is waited for";
        default: return "waits";
    }
}

}  // namespace

/// "A", "A and B", "A, B and C".
static std::string joined(const std::vector<std::string>& words) {
    std::string out;
    for (size_t i = 0; i < words.size(); ++i) {
        if (i) out += i + 1 == words.size() ? " and " : ", ";
        out += words[i];
    }
    return out;
}

std::string msText(int64_t ns, int decimals) { return fixedText(static_cast<double>(ns) * 1e-6, decimals); }

std::string signedMsText(int64_t ns, int decimals) { return (ns < 0 ? "−" : "+") + msText(std::abs(ns), decimals); }

std::string durationText(int64_t ns) {
    const auto value = static_cast<double>(ns);
    const double size = std::abs(value);
    if (size >= 60e9) {
        const auto seconds = static_cast<int64_t>(std::llround(value * 1e-9));
        return std::to_string(seconds / 60) + " min " + std::to_string(std::abs(seconds) % 60) + " s";
    }
    if (size >= 1e9) return fixedText(value * 1e-9, 2) + " s";
    if (size >= 1e6) return fixedText(value * 1e-6, size >= 1e8 ? 0 : 1) + " ms";
    if (size >= 1e3) return fixedText(value * 1e-3, size >= 1e5 ? 0 : 1) + " µs";
    return std::to_string(ns) + " ns";
}

std::string countText(uint64_t count) {
    std::string digits = std::to_string(count);
    if (digits.size() <= 3) return digits;
    std::string out;
    for (size_t i = 0; i < digits.size(); ++i) {
        if (i && (digits.size() - i) % 3 == 0) out += "\u202f";
        out += digits[i];
    }
    return out;
}

std::string plural(uint64_t count, const std::string& one, const std::string& many) {
    return countText(count) + " " + (count == 1 ? one : many);
}

std::string verdictSentence(const Explanation& e) {
    const Figures& f = e.figures;
    if (!f.frames) return "No frames were recorded, so nothing can be late.";
    if (!f.over)
        return "Every one of " + plural(f.frames, "frame", "frames") + " met its deadline; the slowest took " +
               durationText(f.worst);
    size_t named = 0;
    for (const Cause& cause : e.causes) named += cause.kind != CauseKind::Unexplained || cause.path;
    return plural(f.over, "frame", "frames") + " over budget, " + durationText(f.late) + " late in all, from " +
           (named ? plural(named, "cause", "causes") : "no cause that was recorded");
}

std::string boundText(const Recording& r, BoundBy by, uint32_t group) {
    const std::string on = group == kNone ? std::string() : " on " + r.groups[group].name;
    switch (by) {
        case BoundBy::Cpu: return "CPU work" + on;
        case BoundBy::Gpu: return "GPU work" + on;
        case BoundBy::Waiting: return "waiting";
        case BoundBy::NoCore: return "want of a core";
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

std::string causeTitle(const Explanation& e, const Cause& cause) {
    const Recording& r = *e.recording;
    if (cause.kind == CauseKind::NoCore) return "No core: " + coreHolderText(r, cause.coreHolder);
    if (cause.path) return r.pathText(cause.path);
    const std::string& lane = r.groups[cause.group].name;
    if (cause.kind == CauseKind::Unexplained) return "Nothing recorded explains it (" + lane + ")";
    return lane + ", outside any marker";
}

std::string causeKindPhrase(const Explanation& e, const Cause& cause) {
    const std::string& lane = e.recording->groups[cause.group].name;
    switch (cause.kind) {
        case CauseKind::Waiting:
            return cause.object != kNone ? "waits: lock held on " + lane
                                         : std::string(waitedFor(cause.piece)) + " on " + lane;
        case CauseKind::MoreCalls:
            return "more calls: " + callsText(cause.calls) + ", usually " + callsText(cause.usualCalls);
        case CauseKind::Unusual: return "never in a usual frame";
        case CauseKind::Slower:
            return cause.slowdown > 0 ? "each call slower: ×" + fixedText(cause.slowdown, 1) : "slower than usual";
        case CauseKind::NoCore: return lane + " was ready to run";
        case CauseKind::Unexplained:
            return cause.path ? "longer, between its inner markers" : "record more here to learn why";
    }
    return {};
}

std::string whatIfSentence(const Explanation& e, const Prediction& p) {
    std::string repairs;
    bool known = false;
    size_t frames = 0, saved = 0;  // of the causes' own frames
    std::vector<bool> counted(e.frames.size());
    for (const Repair& repair : p.repairs) {
        const Cause& cause = e.causes[repair.cause];
        known |= cause.kind != CauseKind::Unexplained || cause.path;
        for (const uint32_t frame : cause.frames) {
            if (counted[frame]) continue;
            counted[frame] = true;
            ++frames;
            saved += p.overrun[frame] == 0;
        }
    }
    if (!known) return "Markers inside this stretch would tell more.";
    const Repair& first = p.repairs.front();
    const CauseKind kind = e.causes[first.cause].kind;
    if (p.repairs.size() > 1) {
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
    if (key.kind == PieceKind::Idle) return "nothing recorded on " + lane;
    if (key.kind == PieceKind::NoCore)
        return lane + " without a core: " + coreHolderText(r, key.coreHolder) + " had it";
    if (!key.path) return lane + ", outside any marker";
    const std::string title = r.pathText(key.path);
    switch (key.kind) {
        case PieceKind::Waking: return title + ", waking up";
        case PieceKind::Queued: return title + ", in the queue";
        case PieceKind::Blocked: return title + ", stopped by the system";
        default: return title;
    }
}

/// Where the longest stretch without a marker lies inside one that is divided by markers.
static Sentence unmarkedSentence(const Explanation& e, uint32_t frame, const Cause& cause, int64_t excess,
                                 Accountant& accountant) {
    const Recording& r = *e.recording;
    const Frame& f = e.frame(frame);
    Piece longest;
    for (const Piece& piece : accountant.account(f.lane, f.begin, f.end))
        if (piece.path == cause.path && r.lanes[piece.lane].group == cause.group && piece.kind == PieceKind::Running &&
            piece.duration() > longest.duration())
            longest = piece;
    const std::string title = causeTitle(e, cause);
    Sentence sentence{title + " took " + durationText(excess) + " longer than usual outside its inner markers", 0, 0,
                      kNone};
    if (longest.marker.valid()) {
        sentence = {sentence.text, longest.begin, longest.end, longest.lane};
        const auto& rows = r.lanes[longest.lane].rows;
        const uint32_t below = longest.marker.row + 1;
        std::string before, after;
        if (below < rows.size()) {
            const auto [from, to] = rows[below].childrenOf(longest.marker.index);
            for (uint32_t i = from; i < to; ++i) {
                const std::string& name = r.nameOf(rows[below].path(i));
                if (rows[below].end(i) <= longest.begin) before = name;
                if (rows[below].begin(i) >= longest.end && after.empty()) after = name;
            }
        }
        sentence.text += ": " + durationText(longest.duration()) + " without one" +
                         (before.empty() && after.empty() ? ""
                          : after.empty()                 ? " after ‘" + before + "’"
                          : before.empty()                ? " before ‘" + after + "’"
                                                          : " between ‘" + before + "’ and ‘" + after + "’");
    }
    sentence.text += ". A marker there would tell more.";
    return sentence;
}

std::vector<Sentence> frameSentences(const Explanation& e, uint32_t frame) {
    const Recording& r = *e.recording;
    const Frame& f = e.frame(frame);
    const FrameVerdict& verdict = e.frames[frame];
    std::vector<Sentence> out;
    const Baseline& baseline = e.baselines[verdict.baseline];
    const std::string stage = baseline.stage.empty() ? "" : " " + baseline.stage;

    // Waits behind locks on the accounting: who waited for whom.
    struct Behind {
        int64_t time = 0, begin = INT64_MAX, end = 0;
        uint32_t lane = 0, waiter = 0;
        PathId holder = 0;
    };
    std::map<uint32_t, Behind> locks;
    std::map<uint32_t, Behind> byLane;  // other lanes reached in other ways
    Accountant accountant(r);
    for (const Piece& piece : accountant.account(f.lane, f.begin, f.end)) {
        if (piece.lane == f.lane) continue;
        Behind& behind = piece.lock.object != kNone ? locks[piece.lock.object] : byLane[piece.lane];
        behind.time += piece.duration();
        behind.begin = std::min(behind.begin, piece.begin);
        behind.end = std::max(behind.end, piece.end);
        behind.lane = piece.lane;
        behind.waiter = piece.lock.waiterLane;
        behind.holder = piece.lock.holder;
    }
    const int64_t worth = std::max<int64_t>(200'000, verdict.overrun / 10);
    for (const auto& [object, behind] : locks) {
        if (behind.time < worth) continue;
        int64_t usual = 0;
        for (const uint32_t key : baseline.usualKeys)
            if (e.accounts->keys[key].object == object) usual += baseline.usual[key];
        out.push_back({r.lanes[behind.waiter].name + " waited " + durationText(behind.time) + " for ‘" +
                           r.objects[object] + "’. " + r.lanes[behind.lane].name + " held it" +
                           (behind.holder ? " inside " + r.pathText(behind.holder) : " outside any marker") +
                           ". In usual" + stage + " frames " +
                           (usual ? "that takes " + durationText(usual) + "." : "nobody waits for it."),
                       behind.begin, behind.end, behind.lane});
    }
    for (const CauseShare& share : verdict.shares) {
        const Cause& cause = e.causes[share.cause];
        if (cause.object != kNone || out.size() >= 4) continue;
        const std::string lane = r.groups[cause.group].name, title = causeTitle(e, cause);
        double calls = 0;
        if (const uint32_t place = e.accounts->place({cause.group, cause.path}); place != kNone)
            for (const Calls& c : e.accounts->callsOf(frame))
                if (c.place == place) calls = c.count;
        Sentence sentence;
        switch (cause.kind) {
            case CauseKind::MoreCalls:
                sentence.text = title + " ran " + callsText(calls) + " times on " + lane + ", usually " +
                                callsText(cause.usualCalls) + "; that cost " + durationText(share.excess) + " more.";
                break;
            case CauseKind::Unusual:
                sentence.text = title + " on " + lane + " took " + durationText(share.excess) +
                                "; it does not occur in a usual" + stage + " frame.";
                break;
            case CauseKind::Slower:
                sentence.text = title + " on " + lane + " took " + durationText(share.excess) +
                                " longer than usual in " +
                                (calls == 1 ? "its one call." : callsText(calls) + " calls.");
                break;
            case CauseKind::Waiting:
                sentence.text = lane + " " + waitedFor(cause.piece) + " " + durationText(share.excess) +
                                " longer than usual in " + title + ".";
                if (cause.piece >= PieceKind::WaitOther && cause.piece <= PieceKind::WaitGpu)
                    sentence.text += " Who ended that wait was not recorded; a link would tell.";
                break;
            case CauseKind::NoCore:
                sentence.text = lane + " was ready to run, but got no core for " + durationText(share.excess) +
                                " longer than usual: " + coreHolderText(r, cause.coreHolder) + " had it.";
                break;
            case CauseKind::Unexplained:
                if (cause.path) {
                    sentence = unmarkedSentence(e, frame, cause, share.excess, accountant);
                    break;
                }
                sentence.text =
                    "Nothing that was recorded took longer than usual. A marker inside the longest stretch without one "
                    "would tell more.";
                break;
        }
        for (const Piece& piece : accountant.account(f.lane, f.begin, f.end)) {
            if (cause.kind == CauseKind::NoCore
                    ? piece.kind != PieceKind::NoCore || piece.coreHolder != cause.coreHolder
                    : r.lanes[piece.lane].group != cause.group || !r.paths.contains(cause.path, piece.path))
                continue;
            if (sentence.lane == kNone) sentence = {sentence.text, piece.begin, piece.end, piece.lane};
            sentence.begin = std::min(sentence.begin, piece.begin);
        }
        out.push_back(sentence);
    }
    if (verdict.origin != kNone && verdict.origin != frame) {
        const Frame& origin = e.frame(verdict.origin);
        out.push_back({"The work was asked for in frame " + countText(verdict.origin) + "; this frame suffers from it.",
                       origin.begin, origin.end, origin.lane});
    }
    for (const EarlierStage& earlier : earlierStages(e, frame)) {
        const Frame& other = r.series[earlier.series].frames[earlier.frame];
        out.push_back({"It came through frame " + countText(earlier.frame) + " of ‘" + r.series[earlier.series].name +
                           "’, which was " + durationText(earlier.overrun) + " late itself.",
                       other.begin, other.end, other.lane});
    }
    for (const auto& [lane, behind] : byLane) {
        if (out.size() >= 5) break;
        if (behind.time < std::max<int64_t>(worth, f.duration() / 8)) continue;
        out.push_back({r.lanes[f.lane].name + " waited for " + r.lanes[lane].name + " during " +
                           durationText(behind.time) + " of this frame.",
                       behind.begin, behind.end, lane});
    }
    for (const CauseShare& share : verdict.shares) {
        const Cause& cause = e.causes[share.cause];
        if (cause.before.what.empty()) continue;
        std::string what = cause.before.what;
        if (what[0] >= 'a' && what[0] <= 'z') what[0] = static_cast<char>(what[0] - 'a' + 'A');
        const auto [from, to] = justBefore(e, e.spikes[verdict.spike]);
        out.push_back({what + " came just before " + countText(cause.before.spikes) + " of the " +
                           plural(cause.spikes.size(), "spike", "spikes") + " of " + cause.letter +
                           (cause.before.elsewhere ? "." : ", and never otherwise."),
                       from, to, cause.before.lane == kNone ? f.lane : cause.before.lane});
        break;
    }
    const Bound bound = Bounds(r, *e.accounts).of(frame);
    const int64_t longest = bound.group == kNone ? bound.ns[static_cast<size_t>(bound.by)] : bound.groupNs;
    int64_t busy = 0;  // of all lanes
    for (const Lane& lane : r.lanes) busy += lane.ranBetween(f.begin, f.end);
    const int64_t beside = busy - bound.work;
    out.push_back({"Bound by " + boundText(r, bound.by, bound.group) + ": " + durationText(longest) + " of " +
                       durationText(f.duration()) + ". Without any wait it could not have been shorter than " +
                       durationText(bound.work) + "; " +
                       (beside > f.duration() / 100 ? durationText(beside) : std::string("hardly any")) +
                       " of other work ran beside it.",
                   f.begin, f.end, f.lane});
    if (baseline.changes)
        out.push_back(
            {"What is usual changes slowly in this recording; this is compared with frames near it.", 0, 0, kNone});
    if (!verdict.shares.empty())
        out.push_back(
            {surenessSentence(surenessOf(e, frame, e.causes[verdict.shares.front().cause])), f.begin, f.end, f.lane});
    else if (baseline.onlyLate)
        out.push_back(
            {"No frame met its deadline, so this is compared with the quickest quarter of all frames.", 0, 0, kNone});
    else if (baseline.frames < 30)
        out.push_back(
            {"Compared with only " + plural(baseline.frames, "frame", "frames") + " in budget: take it with care.", 0,
             0, kNone});
    return out;
}

std::vector<Rung> ladder(const Explanation& e, uint32_t frame, size_t most) {
    const Recording& r = *e.recording;
    // Time at one place counts once, however it was reached and whether it ran or waited there.
    std::vector<Rung> rungs;
    int64_t whole = 0;
    const auto& shares = e.frames[frame].shares;
    for (const CauseShare& share : shares) {  // of a late frame its causes
        const Cause& cause = e.causes[share.cause];
        const bool waiting = cause.kind == CauseKind::Waiting || cause.kind == CauseKind::NoCore;
        PartKey key;
        key.group = cause.group;
        key.path = cause.path;
        rungs.push_back({causeTitle(e, cause), share.excess, key, false, waiting});
    }
    for (const ExcessPart& part : e.excessOf(frame)) {
        whole += part.excess();
        if (!part.excess() || !shares.empty()) continue;
        const std::string title = partTitle(r, part.key);
        const auto same = std::find_if(rungs.begin(), rungs.end(), [&](const Rung& rung) {
            return rung.key.group == part.key.group && rung.key.path == part.key.path && rung.title == title;
        });
        if (same != rungs.end())
            same->excess += part.excess();
        else
            rungs.push_back({title, part.excess(), part.key, false, part.key.kind != PieceKind::Running});
    }
    std::stable_sort(rungs.begin(), rungs.end(),
                     [](auto& a, auto& b) { return std::abs(a.excess) > std::abs(b.excess); });
    const int64_t floor = std::max<int64_t>(50'000, std::abs(whole) / 100);
    while (rungs.size() > most || (!rungs.empty() && std::abs(rungs.back().excess) < floor)) rungs.pop_back();
    std::stable_sort(rungs.begin(), rungs.end(), [](auto& a, auto& b) { return a.excess > b.excess; });
    int64_t named = 0;
    for (const Rung& rung : rungs) named += rung.excess;
    if (whole != named) rungs.push_back({"everything else", whole - named, {}, true, false});
    return rungs;
}

}  // namespace fugato
