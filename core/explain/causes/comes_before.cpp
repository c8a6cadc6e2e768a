// SPDX-License-Identifier: GPL-3.0-or-later
#include "comes_before.h"

#include <algorithm>
#include <set>
#include <unordered_map>

namespace fugato {

namespace {

constexpr size_t kMostCauses = 26;   // the costliest
constexpr size_t kMostNames = 4096;  // texts that differ every time say nothing
constexpr size_t kFewestSpikes = 3;
constexpr double kRegularly = 0.75;  // of the spikes have it just before…
constexpr double kElsewhere = 0.25;  // …and at most this part of its occurrences lies elsewhere

struct Happened {
    std::string what;
    std::vector<int64_t> times;
    uint32_t lane = kNone;
};

std::vector<Happened> whatHappened(const Recording& r) {
    std::vector<Happened> out;
    std::unordered_map<std::string, size_t> byText;
    std::unordered_map<TextRef, size_t> byRef;  // mostly the same text lies in the same place
    for (const Point& point : r.points) {
        auto known = byRef.find(point.text);
        if (known == byRef.end()) {
            if (byRef.size() > 16 * kMostNames) continue;
            const std::string text(r.text(point.text));
            const auto same = byText.find(text);
            if (same == byText.end() && out.size() >= kMostNames) continue;
            const size_t at = same == byText.end() ? out.size() : same->second;
            if (at == out.size()) {
                byText[text] = at;
                out.push_back({"‘" + text + "’", {}, point.lane});
            }
            known = byRef.emplace(point.text, at).first;
        }
        out[known->second].times.push_back(point.time);
    }
    for (const State& state : r.states) {
        std::unordered_map<std::string, size_t> values;
        for (const StateSpan& span : state.spans) {
            const std::string value(r.text(span.value));
            const auto [at, isNew] = values.try_emplace(value, out.size());
            if (isNew) out.push_back({"the change of " + state.name + " to ‘" + value + "’", {}, kNone});
            out[at->second].times.push_back(span.begin);
        }
    }
    return out;
}

}  // namespace

std::pair<int64_t, int64_t> justBefore(const Explanation& e, const Spike& spike) {
    const Frame& origin = e.frame(std::min(spike.origin, spike.first));
    return {origin.begin - origin.duration(), origin.end};
}

void findWhatComesBefore(Explanation& e) {
    if (e.spikes.size() < kFewestSpikes) return;
    const std::vector<Happened> all = whatHappened(*e.recording);
    for (size_t c = 0; c < std::min(kMostCauses, e.causes.size()); ++c) {
        Cause& cause = e.causes[c];
        const size_t spikes = cause.spikes.size();
        if (spikes < kFewestSpikes) continue;
        for (const Happened& happened : all) {
            const std::vector<int64_t>& times = happened.times;
            if (times.size() < kFewestSpikes || times.size() > 4 * spikes) continue;
            std::set<int64_t> used;
            size_t hits = 0;
            for (const uint32_t s : cause.spikes) {
                const auto [from, to] = justBefore(e, e.spikes[s]);
                const auto at = std::lower_bound(times.begin(), times.end(), from);
                if (at == times.end() || *at >= to) continue;
                ++hits;
                used.insert(*at);
            }
            const size_t elsewhere = times.size() - used.size();
            if (static_cast<double>(hits) < kRegularly * static_cast<double>(spikes) || hits <= cause.before.spikes ||
                static_cast<double>(elsewhere) > kElsewhere * static_cast<double>(times.size()))
                continue;
            cause.before = {happened.what, hits, elsewhere, happened.lane};
        }
    }
}

}  // namespace fugato
