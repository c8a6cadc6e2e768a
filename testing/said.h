// SPDX-License-Identifier: GPL-3.0-or-later
//
// Everything a recording says, as text; two with the same say the same.
#pragma once

#include <QByteArray>

#include "core/model/lane_order.h"
#include "core/model/recording.h"

namespace fugato {

inline QByteArray saidBy(const Recording& r) {
    QByteArray all;
    const auto add = [&](int64_t number) { all += QByteArray::number(qlonglong{number}) + ' '; };
    for (const Lane& lane : r.lanes) {
        all += lane.name.c_str();
        for (const MarkerRow& row : lane.rows) {
            add(row.size());
            for (uint32_t i = 0; i < row.size(); ++i) {
                add(row.begin(i));
                add(row.end(i));
                add(row.path(i));
                add(row.parent(i));
                add(row.flags(i));
            }
        }
        for (const Wait& wait : lane.waits) add(wait.begin), add(wait.end), add(wait.object), add(int64_t(wait.link));
        for (const LinkEnd& link : lane.linkIns) add(link.time), add(int64_t(link.link)), add(link.path);
        for (const Column<Argument>& ofRow : lane.arguments)
            for (const Argument& argument : ofRow)
                add(argument.index), all += (r.keys[argument.key] + "=" + r.valueText(argument)).c_str();
    }
    for (PathId path = 0; path < r.paths.size(); ++path) add(r.paths[path].parent), add(r.paths[path].site);
    for (const Series& series : r.series)
        for (const Frame& frame : series.frames) add(frame.begin), add(frame.end), add(frame.deadline), add(frame.lane);
    for (const Counter& counter : r.counters)
        for (size_t i = 0; i < counter.times.size(); ++i) add(counter.times[i]), add(int64_t(counter.values[i] * 1000));
    for (const State& state : r.states)
        for (const StateSpan& span : state.spans) all += r.text(span.value), add(span.begin), add(span.end);
    for (const Point& point : r.points) all += r.text(point.text), add(point.time), add(point.lane);
    for (const auto& holds : r.holds)
        for (const Hold& hold : holds) add(hold.begin), add(hold.end), add(hold.path);
    for (const auto& source : r.linkSources) add(int64_t(source.link)), add(source.time), add(source.path);
    for (const Operation& operation : r.operations) {
        add(operation.begin), add(operation.end), add(operation.site), add(operation.beganOn), add(operation.endedOn);
        add(operation.row), add(operation.code);
        for (const OperationStep& step : r.stepsOf(operation)) add(step.time), add(step.site), add(step.lane);
    }
    for (const OperationRow& row : r.operationRows) {
        for (const uint32_t operation : row.operations) add(operation);
        for (const uint32_t failed : row.failed) add(failed);
    }
    for (const int64_t end : r.operationEnds) add(end);
    for (const Allocation& it : r.allocations) add(it.taken), add(it.released), add(int64_t(it.bytes)), add(it.path);
    for (const Pool& pool : r.pools)
        for (size_t i = 0; i < pool.times.size(); ++i) add(pool.times[i]), add(pool.bytesInUse[i]);
    for (const Pool& pool : r.pools)
        for (const Extreme& extreme : pool.extremes) add(int64_t(extreme.low)), add(int64_t(extreme.high));
    for (const Picture& picture : r.pictures) all += r.text(picture.pixels), add(picture.time), add(picture.width);
    for (const auto* stacks : {&r.samples, &r.stops})
        for (const StackSample& sample : *stacks) {
            add(sample.time);
            for (uint32_t i = 0; i < sample.count; ++i) add(int64_t(r.stackAddresses[sample.first + i]));
        }
    for (const Lane& lane : r.lanes) {
        for (const ScheduleSpan& span : lane.schedule) add(span.begin), add(span.end), add(int64_t(span.state));
        for (const TimeSplit& sum : lane.scheduleSums) add(sum.ran), add(sum.ready), add(sum.blocked);
        for (const WakeUp& wakeUp : lane.wakeUps) add(wakeUp.time), add(wakeUp.by), add(wakeUp.lane);
        for (const CoreSpan& span : lane.coreSpans) add(span.begin), add(span.end), add(span.thread);
        for (const Lane::Blocked& span : lane.blocked) add(span.begin), add(span.end), add(span.until);
        for (const LostEvents& lost : lane.lost) add(lost.time), add(int64_t(lost.events));
    }
    for (const auto& [key, value] : r.context) all += (key + "=" + value).c_str();
    for (const uint32_t lane : lanesInOrder(r)) add(lane);
    add(r.begin), add(r.end), add(r.startedUnixNs);
    return all;
}

}  // namespace fugato
