// SPDX-License-Identifier: GPL-3.0-or-later
#include "verdicts.h"

#include "core/model/model_builder.h"

namespace engines {

using namespace fugato;

Explained explainedRun(const Settings& settings, const std::set<Trouble>& repaired) {
    ModelBuilder builder;
    Explained out;
    out.expected = runEngine(settings, builder, repaired);
    const std::shared_ptr<const Recording> recording = builder.finish();
    uint32_t series = 0;
    for (uint32_t i = 0; i < recording->series.size(); ++i)
        if (!out.expected.empty() && recording->series[i].name == out.expected[0].series) series = i;
    const auto symbols = recording->stackCount() ? symbolsOf(*recording, {}) : nullptr;
    out.explanation = explain(recording, sumCriticalPaths(*recording, series), {0, symbols});
    return out;
}

bool names(const Explanation& e, const Cause& cause, const Expected& expected) {
    const Recording& r = *e.recording;
    if (expected.kind != causeKindName(cause.kind)) return false;
    if (!expected.by.empty())
        return expected.by.count(coreHolderText(r, byHolder(cause.contentionParts).front().first)) > 0;
    const std::string function = cause.key.function == kNone ? "" : e.symbols->nameOf(cause.key.function);
    return r.namesOf(cause.path) == expected.path && function == expected.function &&
           r.groups[cause.group].name == expected.lane;
}

uint32_t causeOf(const Explanation& e, const Expected& expected) {
    for (uint32_t c = 0; c < e.causes.size(); ++c)
        if (names(e, e.causes[c], expected)) return c;
    return kNone;
}

Noise noiseOf(uint64_t seed) {
    Noise noise;
    noise.drift = seed % 4 == 1;
    noise.wakeUps = seed % 5 < 2;
    noise.everyFourth = seed % 4 == 2;
    noise.warmUp = seed % 4 == 3;
    noise.deviceClockError = (static_cast<int64_t>(seed % 3) - 1) * 60'000;
    return noise;
}

std::string causesText(const Explanation& e) {
    std::string out;
    for (size_t i = 0; i < e.causes.size() && i < 4; ++i) {
        const Cause& cause = e.causes[i];
        out += (i ? "; " : "") + e.recording->groups[cause.group].name + ": " + e.recording->pathText(cause.path, 4) +
               ", " + causeKindName(cause.kind);
        if (cause.kind == CauseKind::NoCore)
            out += " by " + coreHolderText(*e.recording, byHolder(cause.contentionParts).front().first);
    }
    return out.empty() ? "no cause" : out;
}

}  // namespace engines
