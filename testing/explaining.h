// SPDX-License-Identifier: GPL-3.0-or-later
//
// Small recordings, explained: what tests of explanations share.
#pragma once

#include <map>
#include <vector>

#include "core/ask/answer_tables.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/frame_sentences.h"
#include "testing/text_recording.h"

namespace fugato {

/// 60 frames of 20 ms; every tenth loads something and is late. A lock wait in frame 35.
inline std::shared_ptr<const Recording> sixtyFrames() {
    TextRecording t;
    t.lane("main", 1).lane("save", 2).lane("queue", 3, "queue");
    for (int i = 0; i < 60; ++i) {
        const double at = i * 20'000;
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 500, at + 6'000, "main", "Work");
        if (i % 10 == 9) t.mark(at + 6'000, at + 12'000, "main", "Load");
        if (i == 35) {
            t.begin(at, "save", "Flush")
                .taken(at, "save", "gate")
                .given(at + 14'000, "save", "gate")
                .end(at + 14'500, "save");
            t.wait(at + 6'000, "main", "Wait", "gate", "lock").waitEnd(at + 14'000, "main");
        }
        const double end = at + (i % 10 == 9 ? 12'500 : i == 35 ? 14'500 : 7'000);
        t.end(end, "main").frameEnd(end, "main");
        t.mark(at, at + 1'000, "queue", "Scene");
    }
    return t.open();
}

inline std::shared_ptr<const Explanation> explained(const std::shared_ptr<const Recording>& r, int64_t budget = 0) {
    return explain(r, sumCriticalPaths(*r, 0), budget);
}

/// A frame's nested markers against usual.
inline std::shared_ptr<const Table> tableOfFrame(const std::shared_ptr<const Explanation>& e, uint32_t frame) {
    return markerTable(e->recording, e->symbols,
                       groupedMarkers(*e->recording, UsualMarkers(e).ofFrame(frame), MarkersBy::Lane));
}

/// What is told of a frame.
inline std::string firstSentence(const Explanation& e, uint32_t frame) { return frameSentences(e, frame)[0].text; }
inline QStringList sentencesOf(const Explanation& e, uint32_t frame) {
    QStringList all;
    for (const Sentence& sentence : frameSentences(e, frame)) all << QString::fromStdString(sentence.text);
    return all;
}

/// `count` usual frames of 8 ms each 20 ms: Frame ▸ Work of 6 ms, deadline 10 ms. Returns the time after them.
inline double usualFrames(TextRecording& t, int count, double from = 0) {
    for (int i = 0; i < count; ++i, from += 20'000) {
        t.frame(from, "main").begin(from, "main", "Frame").mark(from + 1000, from + 7000, "main", "Work");
        t.end(from + 8000, "main").frameEnd(from + 8000, "main");
    }
    return from;
}

/// A frame of 13 ms on main, begun at `at`: Frame, in which Work runs twice, 11 ms in all.
inline void workTwice(TextRecording& t, double at) {
    t.frame(at, "main").begin(at, "main", "Frame");
    t.mark(at + 1000, at + 5000, "main", "Work").mark(at + 5000, at + 12'000, "main", "Work");
    t.end(at + 13'000, "main").frameEnd(at + 13'000, "main");
}

/// main (thread 100) and hauler (300) on one core, an updater of another program (200).
inline void threadsAndCore(TextRecording& t) {
    t.line(R"({"define":"lane","id":1,"name":"main","kind":"thread","role":"","os":100})");
    t.line(R"({"define":"lane","id":2,"name":"hauler","kind":"thread","role":"","os":300})");
    t.line(R"({"define":"lane","id":3,"name":"worker","kind":"thread","role":"","os":400})");
    t.line(R"({"define":"lane","id":9,"name":"core 0","kind":"core","role":"","os":0})");
    t.line(R"({"define":"os_thread","id":200,"process":77,"name":"updater"})");
}
inline std::string onCore(int thread, bool ready = false) {
    return R"("do":"switch","thread":)" + std::to_string(thread) + (ready ? R"(,"ready":true)" : "");
}

/// Forty frames of 8 ms, deadline 9 ms; the core is taken from main in some of them: by two processes "find" (20, 22),
/// by one of them and "updater" (24), by hauler (26), by the system's own kworker (28).
inline TextRecording contendedFrames() {
    TextRecording t;
    threadsAndCore(t);  // thread 200 is "updater" of process 77
    t.line(R"({"define":"os_thread","id":88,"process":88,"name":"find"})");
    t.line(R"({"define":"os_thread","id":89,"process":89,"name":"find"})");
    t.line(R"({"define":"os_thread","id":90,"process":90,"name":"kworker/0:1"})");
    t.at(0, "core 0", onCore(100));
    double at = 0;
    // Who has the core of main, one after the other from 2 ms after the frame's begin: thread, for how many ms.
    const std::map<int, std::vector<std::pair<int, double>>> taken{
        {20, {{88, 2}}}, {22, {{89, 4}}}, {24, {{88, 3}, {200, 3}}}, {26, {{300, 6}}}, {28, {{90, 2}}}};
    for (int f = 0; f < 40; ++f, at += 40'000) {
        double more = 0;
        const auto others = taken.find(f);
        if (others != taken.end())
            for (const auto& [thread, ms] : others->second) more += ms * 1000;
        t.frame(at, "main", 9000).begin(at, "main", "Frame").begin(at + 1000, "main", "Work");
        t.end(at + 7000 + more, "main").end(at + 8000 + more, "main").frameEnd(at + 8000 + more, "main");
        double from = at + 2000;
        if (others != taken.end()) {
            for (const auto& [thread, ms] : others->second) {
                t.at(from, "core 0", onCore(thread, from == at + 2000));
                from += ms * 1000;
            }
            t.at(from, "core 0", onCore(100));
        }
    }
    return t;
}

/// "lane:path kind begin-end" of every segment, earliest first, times in µs.
inline QStringList segmentsOf(const Recording& r, uint32_t frame = 0) {
    CriticalPathWalker walker(r);
    const Frame& f = r.series[0].frames[frame];
    QStringList out;
    int64_t at = f.end;
    for (const Segment& segment : walker.account(f.lane, f.begin, f.end)) {
        if (segment.end != at) out.prepend("GAP");
        at = segment.begin;
        out.prepend(QString("%1:%2 %3 %4-%5")
                        .arg(QString::fromStdString(r.lanes[segment.lane].name), pathOf(r, segment.path),
                             segmentName(segment.kind))
                        .arg(segment.begin / 1000.0)
                        .arg(segment.end / 1000.0));
    }
    if (at != f.begin) out.prepend("GAP");
    return out;
}

inline QString causeText(const Explanation& e, size_t index) {
    if (index >= e.causes.size()) return "none";
    const Cause& cause = e.causes[index];
    return QString("%1 %2 %3 %4")
        .arg(QString::fromStdString(cause.letter), QString::fromStdString(e.recording->groups[cause.group].name),
             pathOf(*e.recording, cause.path), causeKindName(cause.kind));
}

}  // namespace fugato
