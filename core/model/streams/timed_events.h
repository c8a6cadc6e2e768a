// SPDX-License-Identifier: GPL-3.0-or-later
//
// Events of all lanes in order of time, of which more come while a recording grows. Lanes are read side by side, so
// what comes later may belong a little before what came last. What lies farther back is settled: it is taken once. The
// rest is taken too, for the recording of this moment, and undone afterwards. So growth costs what is new.
#pragma once

#include <functional>

#include "format/events.h"
#include "sorted_list.h"

namespace fugato {

/// How to take back what was done, last first.
class Undo {
public:
    void add(std::function<void()> back) { all_.push_back(std::move(back)); }
    /// Remembers a value that is about to be changed.
    template <class T>
    void keep(T& value) {
        add([&value, before = value] { value = before; });
    }
    void run() {
        for (; !all_.empty(); all_.pop_back()) all_.back()();
    }

private:
    std::vector<std::function<void()>> all_;
};

/// Event has a `time`. State takes events in order: `take(event, undo)`, where undo is null for those that stay taken;
/// `markSettled()` is called after these, and `again()` is a state that was told no event yet.
template <class Event, class State>
class TimedEvents {
public:
    void add(const Event& event) {
        late_ |= settled_ && event.time < settledTo_;
        events_.add(event);
    }
    /// From the beginning again, with a state that was told something else before.
    void restart(State start) {
        state_ = std::move(start);
        settled_ = 0;
        late_ = false;
    }
    bool empty() const { return events_.list().empty(); }

    /// Calls `look(state)` when everything was taken that came so far. `less`: by time first. Where `progress` cancels
    /// it, nothing is looked at.
    template <class Less, class Place, class Look>
    void withAll(Less&& less, Place& place, const Progress& progress, Look&& look) {
        constexpr size_t kTold = 1 << 14;  // events
        GrowingList<Event>& events = events_.sorted(less);
        if (late_) restart(state_.again());
        if (!events.empty()) {
            const int64_t settles = events.back().time - kUnsettledNs;
            for (; settled_ < events.size() && events[settled_].time < settles; ++settled_) {
                if (progress && settled_ % kTold == 0 &&
                    !progress(static_cast<double>(settled_) / static_cast<double>(events.size())))
                    return;
                state_.take(events[settled_], nullptr);
            }
            settledTo_ = std::max(settledTo_, settles);
        }
        state_.markSettled();
        Undo undo;
        for (size_t i = settled_; i < events.size(); ++i) state_.take(events[i], &undo);
        look(state_);
        undo.run();
        events.settle(place, settled_);
    }

private:
    SortedList<Event> events_;
    State state_;
    size_t settled_ = 0;
    int64_t settledTo_ = 0;
    bool late_ = false;
};

}  // namespace fugato
