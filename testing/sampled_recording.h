// SPDX-License-Identifier: GPL-3.0-or-later
//
// A recording with call stacks, written by hand: what tests of functions share.
#pragma once

#include "sampled_program.h"
#include "text_recording.h"

namespace fugato {

inline TextRecording& module(TextRecording& t, uint64_t address, const std::string& path, const std::string& buildId) {
    return t.line(R"({"define":"module","address":)" + std::to_string(address) + R"(,"bytes":)" +
                  std::to_string(kModuleBytes) + R"(,"offset":0,"path":")" + path + R"(","build_id":")" + buildId +
                  "\"}");
}

/// main (thread 100) on one core, and where the sampled program and its library lie.
inline TextRecording sampledProgram() {
    TextRecording t;
    t.line(R"({"define":"context","key":"process","value":"100"})");
    t.line(R"({"define":"context","key":"os samples","value":"every 1000 us of running"})");
    module(t, kProgramAt, sampledProgramPath(), "");
    module(t, kLibraryAt, FUGATO_SAMPLED_LIBRARY, kLibraryBuildId);
    t.line(R"({"define":"lane","id":1,"name":"main","kind":"thread","role":"","os":100})");
    t.line(R"({"define":"lane","id":9,"name":"core 0","kind":"core","role":"","os":0})");
    return t;
}

inline void sampled(TextRecording& t, double us, const std::string& stack) {
    t.at(us, "core 0", R"("do":"sample","thread":100,"stack":")" + stack + "\"");
}
inline void sampled(TextRecording& t, double us, const std::vector<Sampled>& functions) {
    sampled(t, us, stackText(functions));
}

/// Who has the core from `us` on; 0: it is idle.
inline void hasCore(TextRecording& t, double us, int thread) {
    t.at(us, "core 0", R"("do":"switch","thread":)" + std::to_string(thread));
}
/// main blocks there, in the last of these functions; the switch is told next.
inline void stopsAt(TextRecording& t, double us, const std::vector<Sampled>& functions) {
    t.at(us, "core 0", R"("do":"sample","thread":100,"blocks":true,"stack":")" + stackText(functions) + "\"");
}

/// Forty frames of 8 ms, deadline 10 ms. In 33 and 37 main is blocked for 12 ms more, in unpack_rows: inside Work, or
/// outside any marker.
inline TextRecording blockedFrames(bool inside) {
    TextRecording t = sampledProgram();
    double at = 0;
    for (int f = 0; f < 40; ++f, at += 40'000) {
        const int blocked = f == 33 || f == 37 ? 12'000 : 0;
        t.frame(at, "main").mark(at, at + 6000 + (inside ? blocked : 0), "main", "Work");
        t.frameEnd(at + 8000 + blocked, "main");
        hasCore(t, at, 100);
        if (blocked) {
            const double from = at + (inside ? 5000 : 7000);
            stopsAt(t, from, {Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta});
            hasCore(t, from, 0);
            hasCore(t, from + blocked, 100);
        }
        stopsAt(t, at + 8000 + blocked, {Sampled::RunRegatta});
        hasCore(t, at + 8000 + blocked, 0);
    }
    return t;
}

/// A frame, begun at `at`: Frame, in which Work runs for 6 ms from the first on, and then `unmarked` ms without a
/// marker, of which all samples but two are of `functions`. A sample each ms; others are of the program's loop alone.
inline void sampledFrame(TextRecording& t, double at, int unmarked = 0, const std::vector<Sampled>& functions = {}) {
    t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 7000, "main", "Work");
    const int length = 8 + unmarked;
    t.end(at + 1000 * length, "main").frameEnd(at + 1000 * length, "main");
    for (int ms = 0; ms < length; ++ms)
        sampled(t, at + 1000 * ms + 500,
                ms >= 7 && ms < 7 + unmarked - 2 ? functions : std::vector<Sampled>{Sampled::RunRegatta});
}

/// Thirty usual frames of 8 ms, deadline 10 ms, then every third is late: 32, 35 and 38 by 20 ms of loading a chart,
/// 41, 44 and 47 by 12 ms of finding a course; without markers.
inline TextRecording sampledFrames() {
    TextRecording t = sampledProgram();
    double at = 0;
    for (int f = 0; f < 49; ++f, at += 40'000) {
        if (f < 32 || f % 3 != 2)
            sampledFrame(t, at);
        else if (f < 40)
            sampledFrame(t, at, 20, {Sampled::UnpackRows, Sampled::LoadChart, Sampled::RunRegatta});
        else
            sampledFrame(t, at, 12, {Sampled::Sound, Sampled::FindCourse, Sampled::RunRegatta});
    }
    return t;
}

}  // namespace fugato
