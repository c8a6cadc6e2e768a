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
constexpr uint32_t kMostInside = 256;                                     // markers, looked at
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

/// An occurrence, those around it, and of each marker directly inside it the longest.
template <class Take>
void forEachAround(const Recording& r, const MarkerRef& occurrence, Take&& take) {
    const auto& rows = r.lanes[occurrence.lane].rows;
    for (MarkerRef at = occurrence;; --at.row) {
        take(at);
        if (at.row == 0) break;
        at.index = rows[at.row].parent(at.index);
    }
    if (occurrence.row + 1 == rows.size()) return;
    const MarkerRow& inside = rows[occurrence.row + 1];
    const auto [from, to] = inside.childrenOf(occurrence.index);
    std::map<PathId, std::pair<int64_t, uint32_t>> longest;
    for (uint32_t i = from; i < std::min(to, from + kMostInside); ++i) {
        auto& [most, at] = longest.try_emplace(inside.path(i), -1, i).first->second;
        const int64_t duration = inside.end(i) - inside.begin(i);
        if (duration > most) most = duration, at = i;
    }
    for (const auto& [path, one] : longest) take({occurrence.lane, occurrence.row + 1, one.second});
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
        std::map<std::pair<PathId, uint32_t>, Values> byKey;  // by marker that has it, and key
        const auto add = [&](const MarkerRef& occurrence, bool isLate) {
            forEachAround(r, occurrence, [&](const MarkerRef& marker) {
                const auto [from, to] = r.lanes[marker.lane].argumentsOf(marker.row, marker.index);
                for (const Argument* argument = from; argument != to; ++argument)
                    byKey[{r.pathOf(marker), argument->key}].add(r, *argument, isLate);
            });
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
        std::vector<std::pair<const std::pair<PathId, uint32_t>, Values>*> nearest;  // its own first
        for (auto& one : byKey) nearest.push_back(&one);
        const auto depth = [&](PathId path) { return static_cast<int>(r.paths[path].depth); };
        std::stable_sort(nearest.begin(), nearest.end(), [&](auto* x, auto* y) {
            return std::abs(depth(x->first.first) - depth(cause.path)) <
                   std::abs(depth(y->first.first) - depth(cause.path));
        });
        for (auto* const one : nearest) {
            const auto& [marker, key] = one->first;
            Values& values = one->second;
            if (cause.arguments.size() == kMostArguments) break;
            if (values.inLate < kFewestFrames ||
                static_cast<double>(values.inLate) < kGoesWith * static_cast<double>(looked))
                continue;
            CauseArgument argument;
            argument.key = r.keys[key];
            argument.marker = marker == cause.path ? std::string() : r.nameOf(marker);
            argument.around = depth(marker) < depth(cause.path);
            argument.value = beyondUsual(values);
            argument.frames = values.inLate;
            argument.ofFrames = looked;
            if (argument.value.empty()) argument.value = fewValues(values, argument.frames);
            if (!argument.value.empty()) cause.arguments.push_back(std::move(argument));
        }
    }
}

}  // namespace fugato
