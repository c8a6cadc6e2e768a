// SPDX-License-Identifier: GPL-3.0-or-later
#include "counter_figures.h"

#include <algorithm>
#include <map>

#include "core/store/long_work.h"

namespace fugato {

namespace {

/// The last value told at an instant or before; the number of values where there is none.
size_t valueAt(const Counter& counter, int64_t time) {
    const auto after = std::upper_bound(counter.times.begin(), counter.times.end(), time);
    return after == counter.times.begin() ? counter.times.size()
                                          : static_cast<size_t>(after - counter.times.begin()) - 1;
}

/// Calls `take(value, begin, end, told)` for what holds in [begin, end); `told`: it was told there.
template <class Take>
void eachHeld(const Counter& counter, int64_t begin, int64_t end, Take&& take) {
    const size_t held = valueAt(counter, begin), all = counter.times.size();
    for (size_t i = held == all ? 0 : held; i < all && counter.times[i] < end; ++i) {
        const int64_t until = i + 1 < all ? std::min(end, counter.times[i + 1]) : end;
        take(counter.values[i], std::max(begin, counter.times[i]), until, counter.times[i] >= begin);
    }
}

CounterFigures ofCounter(const Recording& r, uint32_t index, const Scope& scope, int64_t instant) {
    const Counter& counter = r.counters[index];
    CounterFigures f;
    f.counter = index;
    if (const size_t at = valueAt(counter, instant); at < counter.times.size()) f.now = counter.values[at];
    double sum = 0;
    int64_t held = 0;
    for (const TimeRange& stretch : scope.stretches)
        eachHeld(counter, stretch.begin, stretch.end, [&](double value, int64_t begin, int64_t end, bool told) {
            f.least = std::min(f.least.value_or(value), value);
            f.greatest = std::max(f.greatest.value_or(value), value);
            f.values += told;
            sum += value * static_cast<double>(end - begin);
            held += end - begin;
        });
    if (held > 0) f.mean = sum / static_cast<double>(held);
    return f;
}

void judgeFrames(const Explanation& e, const Scope& scope, CounterAndStateFigures& made) {
    for (uint32_t i = 0; i < e.frames.size(); ++i) {
        const Frame& frame = e.frame(i);
        if (!scope.contains(frame.begin)) continue;
        const bool late = e.frames[i].overrun > 0;
        ++(late ? made.lateFrames : made.otherFrames);
        for (CounterFigures& f : made.counters) {
            const Counter& counter = e.recording->counters[f.counter];
            if (!counter.threshold) continue;
            bool beyond = false;
            eachHeld(counter, frame.begin, frame.end,
                     [&](double value, int64_t, int64_t, bool) { beyond |= value > *counter.threshold; });
            (late ? f.lateBeyond : f.otherBeyond) += beyond;
        }
    }
}

StateFigures ofState(const Recording& r, uint32_t index, const Scope& scope, int64_t instant) {
    StateFigures f;
    f.state = index;
    std::map<std::string, StateTime> times;
    for (const StateSpan& span : r.states[index].spans) {
        const std::string value(r.text(span.value));
        if (span.begin <= instant && instant < span.end) f.now = value;
        int64_t inside = 0;
        bool any = false;
        auto stretch = std::partition_point(scope.stretches.begin(), scope.stretches.end(),
                                            [&](const TimeRange& s) { return s.end <= span.begin; });
        for (; stretch != scope.stretches.end() && stretch->begin < span.end; ++stretch) {
            any = true;
            inside += std::min(span.end, stretch->end) - std::max(span.begin, stretch->begin);
        }
        if (!any) continue;
        StateTime& time = times[value];
        time.value = value;
        time.ns += inside;
        ++time.times;
    }
    for (auto& [value, time] : times) f.times.push_back(std::move(time));
    std::stable_sort(f.times.begin(), f.times.end(),
                     [](const StateTime& a, const StateTime& b) { return a.ns > b.ns; });
    return f;
}

}  // namespace

std::shared_ptr<const CounterAndStateFigures> counterFigures(const Recording& r, const Explanation* e,
                                                             const Scope& scope, int64_t instant,
                                                             const Progress& progress) {
    longWork("the figures of counters");
    auto made = std::make_shared<CounterAndStateFigures>();
    for (uint32_t i = 0; i < r.counters.size(); ++i) {
        if (progress && !progress(static_cast<double>(i) / static_cast<double>(r.counters.size()))) return nullptr;
        if (!r.counters[i].times.empty()) made->counters.push_back(ofCounter(r, i, scope, instant));
    }
    if (e) judgeFrames(*e, scope, *made);
    for (uint32_t i = 0; i < r.states.size(); ++i)
        if (!r.states[i].spans.empty()) made->states.push_back(ofState(r, i, scope, instant));
    return made;
}

}  // namespace fugato
