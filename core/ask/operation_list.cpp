// SPDX-License-Identifier: GPL-3.0-or-later
#include "operation_list.h"

#include <algorithm>

#include "core/store/long_work.h"

namespace fugato {

namespace {

bool overlaps(const Scope& scope, int64_t begin, int64_t end) {
    const auto stretch = std::partition_point(scope.stretches.begin(), scope.stretches.end(),
                                              [&](const TimeRange& s) { return s.end <= begin; });
    return stretch != scope.stretches.end() && begin < stretch->end &&
           (end > stretch->begin || begin >= stretch->begin);
}

/// The longest first; those of one length in order of time.
struct Found {
    int64_t duration = 0, begin = 0;
    uint32_t lane = kNone, index = 0;  // of a wait; kNone: of an operation
    bool operator<(const Found& other) const {
        return std::tie(other.duration, begin, lane, index) < std::tie(duration, other.begin, other.lane, other.index);
    }
};

ListedOperation listed(const Recording& r, const Operation& operation) {
    ListedOperation made;
    made.what = r.sites[operation.site].name;
    made.begin = operation.begin;
    made.end = operation.end;
    made.beganOn = operation.beganOn;
    made.endedOn = operation.endedOn;
    made.code = operation.code;
    made.result = std::string(r.text(operation.text));
    const auto steps = r.stepsOf(operation);
    if (steps.empty()) return made;
    made.layers.push_back({"begun", operation.beganOn, operation.begin, steps.front().time});
    for (size_t i = 0; i < steps.size(); ++i)
        made.layers.push_back({r.sites[steps[i].site].name, steps[i].lane, steps[i].time,
                               i + 1 < steps.size() ? steps[i + 1].time : operation.end});
    return made;
}

ListedOperation listed(const Recording& r, uint32_t lane, const Wait& wait) {
    ListedOperation made;
    made.marker = {lane, wait.row, wait.index};
    made.what = r.nameOf(r.pathOf(made.marker));
    made.begin = wait.begin;
    made.end = wait.end;
    made.beganOn = made.endedOn = lane;
    if (wait.object < r.objects.size()) made.path = r.objects[wait.object];
    const auto [from, to] = r.lanes[lane].argumentsOf(wait.row, wait.index);
    for (const Argument* argument = from; argument != to; ++argument) {
        if (r.keys[argument->key] == "path") made.path = r.valueText(*argument);
        if (r.keys[argument->key] == "bytes" && argument->type == ArgumentType::Integer)
            made.bytes = argument->integer();
    }
    return made;
}

}  // namespace

std::shared_ptr<const OperationList> operationsIn(const Recording& r, const Scope& scope, int64_t least,
                                                  const Progress& progress) {
    longWork("the operations in a scope");
    auto made = std::make_shared<OperationList>();
    std::vector<Found> found;
    const auto add = [&](const Found& one) {
        if (one.duration < least) return void(++made->shorter);
        ++made->count;
        found.push_back(one);
        if (found.size() < 2 * kMostOperations) return;
        std::nth_element(found.begin(), found.begin() + kMostOperations, found.end());
        found.resize(kMostOperations);
    };
    for (uint32_t i = 0; i < r.operations.size(); ++i) {
        const Operation& operation = r.operations[i];
        if (scope.has(operation.beganOn) && overlaps(scope, operation.begin, operation.end))
            add({operation.end - operation.begin, operation.begin, kNone, i});
    }
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        if (progress && !progress(static_cast<double>(l) / static_cast<double>(r.lanes.size()))) return nullptr;
        if (!scope.has(l)) continue;
        const Column<Wait>& waits = r.lanes[l].waits;
        for (uint32_t i = 0; i < waits.size(); ++i)
            if (waits[i].kind == WaitKind::File && overlaps(scope, waits[i].begin, waits[i].end))
                add({waits[i].end - waits[i].begin, waits[i].begin, l, i});
    }
    std::sort(found.begin(), found.end());
    found.resize(std::min(found.size(), kMostOperations));
    for (const Found& one : found)
        made->longest.push_back(one.lane == kNone ? listed(r, r.operations[one.index])
                                                  : listed(r, one.lane, r.lanes[one.lane].waits[one.index]));
    return made;
}

}  // namespace fugato
