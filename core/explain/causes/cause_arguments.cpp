// SPDX-License-Identifier: GPL-3.0-or-later
#include "cause_arguments.h"

#include <algorithm>
#include <map>

#include "core/explain/words/quantities.h"
#include "format/number_text.h"
#include "usual.h"

namespace fugato {

namespace {

constexpr size_t kMostCauses = 32, kMostFrames = 64, kMostPerFrame = 16;  // looked at
constexpr size_t kFewestFrames = 2, kFewestUsual = 8;
constexpr double kGoesWith = 0.75;   // of the late frames have the value, or lie beyond the usual ones
constexpr double kElsewhere = 0.25;  // of the usual occurrences may have it too
constexpr size_t kMostValues = 3, kMostArguments = 3;
constexpr double kTail = 0.05;

template <class Take>
void forEachOccurrence(const Recording& r, uint32_t group, PathId path, int64_t begin, int64_t end, Take&& take) {
    const uint32_t depth = r.paths[path].depth;
    for (const uint32_t lane : r.groups[group].lanes) {
        if (r.lanes[lane].rows.size() < depth) continue;
        const MarkerRow& row = r.lanes[lane].rows[depth - 1];
        const auto [from, to] = row.overlapping(begin, end);
        row.forEach(from, to, [&](uint32_t index, int64_t at, int64_t duration, uint32_t lanePath, uint8_t) {
            if (row.pathOf(lanePath) == path)
                take(MarkerRef{lane, depth - 1, index}, std::min(end, at + duration) - std::max(begin, at));
        });
    }
}

/// The values of one argument in late frames (one for each) and in usual occurrences.
struct Values {
    std::map<std::string, std::pair<size_t, size_t>> counts;  // by text: late, usual
    std::vector<double> late, usual;                          // those that are numbers
    size_t inLate = 0, inUsual = 0;
    void add(const Recording& r, const Argument& argument, bool isLate) {
        auto& [ofLate, ofUsual] = counts[r.valueText(argument)];
        ++(isLate ? ofLate : ofUsual);
        ++(isLate ? inLate : inUsual);
        if (argument.type == ArgumentType::Text) return;
        const double number =
            argument.type == ArgumentType::Integer ? static_cast<double>(argument.integer()) : argument.real();
        (isLate ? late : usual).push_back(number);
    }
};

/// "48, usually 12" where nearly all late values lie beyond nearly all usual ones; else empty.
std::string beyondUsual(Values& v) {
    if (v.late.size() < v.inLate || v.usual.size() < kFewestUsual) return {};
    const double low = quantileWithZeros(v.usual, v.usual.size(), kTail),
                 high = quantileWithZeros(v.usual, v.usual.size(), 1 - kTail);
    const auto beyond = [&](auto&& is) {
        return static_cast<double>(std::count_if(v.late.begin(), v.late.end(), is)) >=
               kGoesWith * static_cast<double>(v.late.size());
    };
    if (!beyond([&](double value) { return value > high; }) && !beyond([&](double value) { return value < low; }))
        return {};
    constexpr int kDigits = 6;
    return shortText(quantileWithZeros(v.late, v.late.size(), 0.5), kDigits) + ", usually " +
           shortText(quantileWithZeros(v.usual, v.usual.size(), 0.5), kDigits);
}

/// "reef.png", "reef.png (5) or bay.png (3)": the few values that nearly all late frames have, and hardly any usual
/// occurrence; else empty.
std::string fewValues(const Values& v, size_t& frames) {
    std::vector<std::pair<std::string, size_t>> most;
    for (const auto& [value, counts] : v.counts)
        if (static_cast<double>(counts.second) <= kElsewhere * static_cast<double>(v.inUsual) && counts.first)
            most.emplace_back(value, counts.first);
    std::stable_sort(most.begin(), most.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    if (most.empty() || most.front().second < kFewestFrames) return {};  // in each late frame another value
    size_t usual = 0;
    std::string words;
    frames = 0;
    const auto inMostFrames = [&] { return static_cast<double>(frames) >= kGoesWith * static_cast<double>(v.inLate); };
    for (size_t i = 0; i < std::min(kMostValues, most.size()) && !inMostFrames(); ++i) {
        frames += most[i].second;
        usual += v.counts.at(most[i].first).second;
        const bool only = i == 0 && inMostFrames();
        words += (i ? " or " : "") + most[i].first + (only ? "" : " (" + countText(most[i].second) + ")");
    }
    const bool rare = static_cast<double>(usual) <= kElsewhere * static_cast<double>(v.inUsual);
    return inMostFrames() && rare ? words : std::string();
}

}  // namespace

MarkerRef longestOccurrenceIn(const Explanation& e, uint32_t frame, const Cause& cause) {
    MarkerRef longest;
    if (!cause.path || cause.kind == CauseKind::NoCore) return longest;
    int64_t most = -1;
    const Frame& f = e.frame(frame);
    forEachOccurrence(*e.recording, cause.group, cause.path, f.begin, f.end, [&](const MarkerRef& marker, int64_t ns) {
        if (ns <= most) return;
        most = ns;
        longest = marker;
    });
    return longest;
}

void findArguments(Explanation& e) {
    const Recording& r = *e.recording;
    if (r.keys.empty()) return;
    for (size_t c = 0; c < std::min({kMostCauses, e.causes.size(), e.listed}); ++c) {
        Cause& cause = e.causes[c];
        if (!cause.path || cause.kind == CauseKind::NoCore || cause.frames.size() < kFewestFrames) continue;
        std::map<uint32_t, Values> byKey;
        const auto add = [&](const MarkerRef& marker, bool isLate) {
            const auto [from, to] = r.lanes[marker.lane].argumentsOf(marker.row, marker.index);
            for (const Argument* argument = from; argument != to; ++argument)
                byKey[argument->key].add(r, *argument, isLate);
        };
        size_t looked = 0;
        const size_t step = (cause.frames.size() + kMostFrames - 1) / kMostFrames;
        for (size_t i = 0; i < cause.frames.size(); i += step, ++looked)
            if (const MarkerRef longest = longestOccurrenceIn(e, cause.frames[i], cause); longest.valid())
                add(longest, true);
        if (byKey.empty()) continue;
        for (const uint32_t f : e.baselines[e.frames[cause.frames.front()].baseline].sample) {
            size_t taken = 0;
            forEachOccurrence(r, cause.group, cause.path, e.frame(f).begin, e.frame(f).end,
                              [&](const MarkerRef& marker, int64_t) {
                                  if (taken++ < kMostPerFrame) add(marker, false);
                              });
        }
        for (auto& [key, values] : byKey) {
            if (cause.arguments.size() == kMostArguments) break;
            if (values.inLate < kFewestFrames ||
                static_cast<double>(values.inLate) < kGoesWith * static_cast<double>(looked))
                continue;
            CauseArgument argument{r.keys[key], beyondUsual(values), values.inLate, looked};
            if (argument.value.empty()) argument.value = fewValues(values, argument.frames);
            if (!argument.value.empty()) cause.arguments.push_back(std::move(argument));
        }
    }
}

}  // namespace fugato
