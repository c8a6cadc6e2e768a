// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording.h"

#include <algorithm>

#include "core/store/first_from.h"
#include "format/number_text.h"

namespace fugato {

size_t Lane::markerCount() const {
    size_t count = 0;
    for (const MarkerRow& row : rows) count += row.size();
    return count;
}

int64_t Lane::busyBetween(int64_t begin, int64_t end) const {
    if (rows.empty()) return 0;
    // Summed durations before an instant, less the part that lies after it of the one open there.
    const auto marked = [&](int64_t time) -> int64_t {
        const uint32_t after = rows[0].firstFrom(time);
        return after ? rows[0].busyBefore(after) - std::max<int64_t>(0, rows[0].end(after - 1) - time) : 0;
    };
    const auto waited = [&](int64_t time) -> int64_t {
        const auto after = std::lower_bound(blocked.begin(), blocked.end(), time,
                                            [](const Blocked& b, int64_t t) { return b.begin < t; });
        return after == blocked.begin() ? 0 : after[-1].until - std::max<int64_t>(0, after[-1].end - time);
    };
    return std::max<int64_t>(0, marked(end) - marked(begin) - (waited(end) - waited(begin)));
}

const Wait* Lane::waitAt(uint32_t row, uint32_t index) const {
    const int64_t begin = rows[row].begin(index);
    auto at = std::lower_bound(waits.begin(), waits.end(), begin, [](const Wait& w, int64_t t) { return w.begin < t; });
    for (; at != waits.end() && at->begin == begin; ++at)
        if (at->row == row && at->index == index) return &*at;
    return nullptr;
}

uint32_t Series::frameAt(int64_t time) const {
    const auto after =
        std::upper_bound(frames.begin(), frames.end(), time, [](int64_t t, const Frame& f) { return t < f.begin; });
    return after == frames.begin() ? kNone : static_cast<uint32_t>(after - frames.begin() - 1);
}

uint32_t Series::firstFrom(int64_t time, uint32_t near) const {
    return static_cast<uint32_t>(
        fugato::firstFrom(near, frames.size(), [&](size_t i) { return frames[i].begin >= time; }));
}

std::vector<std::string> Repairs::sentences() const {
    std::vector<std::string> out;
    const auto say = [&](uint64_t count, const char* one, const char* many) {
        if (count) out.push_back(std::to_string(count) + (count == 1 ? one : many));
    };
    say(lostEvents, " event is missing (lost while recording, or damaged); its lane shows where.",
        " events are missing (lost while recording, or damaged); their lanes show where.");
    if (beginsWithoutEnd == 1)
        out.push_back("1 marker was never ended within the recording (" + mostOftenNeverEnded +
                      "); it is drawn to its lane's last event.");
    if (beginsWithoutEnd > 1)
        out.push_back(std::to_string(beginsWithoutEnd) + " markers were never ended within the recording (most often " +
                      mostOftenNeverEnded + "); they are drawn to their lane's last event.");
    say(tooDeep, " marker is nested more than 1000 levels deep; it is shown in the last level, after its caller.",
        " markers are nested more than 1000 levels deep; they are shown in the last level, each after its caller.");
    say(endsWithoutBegin, " end had no begin and was left out.", " ends had no begin and were left out.");
    say(timesBackwards, " event's time ran backwards and was moved to the event before it.",
        " events' times ran backwards and were moved to the event before them.");
    say(framesWithoutEnd, " frame was never ended.", " frames were never ended.");
    say(unknownNames, " name is missing and shown by number.", " names are missing and shown by number.");
    return out;
}

std::vector<std::string> Recording::notes() const {
    std::vector<std::string> out = damage.notes;
    if (const auto stopped = context.find("recording stopped"); stopped != context.end())
        out.push_back("Recording stopped: " + stopped->second + ".");
    for (std::string& sentence : repairs.sentences()) out.push_back(std::move(sentence));
    return out;
}

size_t Recording::markerCount() const {
    size_t count = 0;
    for (const Lane& lane : lanes) count += lane.markerCount();
    return count;
}

const Site& Recording::siteOf(PathId path) const {
    static const Site outside;
    return path ? sites[paths[path].site] : outside;
}

const std::string& Recording::nameOf(PathId path) const {
    static const std::string outside = "outside any marker";
    return path ? siteOf(path).name : outside;
}

std::vector<std::string> Recording::namesOf(PathId path) const {
    std::vector<std::string> names;
    for (; path; path = paths[path].parent) names.push_back(siteOf(path).name);
    std::reverse(names.begin(), names.end());
    return names;
}

std::string Recording::pathText(PathId path, size_t most) const {
    if (!path) return nameOf(path);
    std::string text = nameOf(path);
    for (size_t i = 1; i < most && paths[path].parent; ++i) {
        path = paths[path].parent;
        text = nameOf(path) + " ▸ " + text;
    }
    return text;
}

MarkerRef Recording::innermostBefore(uint32_t lane, int64_t time) const {
    MarkerRef found;
    const auto& rows = lanes[lane].rows;
    for (uint32_t row = 0; row < rows.size(); ++row) {
        const uint32_t index = rows[row].lastBefore(time);
        if (index == kNone || rows[row].end(index) < time) break;
        found = {lane, row, index};
    }
    return found;
}

int64_t Recording::selfTime(const MarkerRef& marker) const {
    const auto& rows = lanes[marker.lane].rows;
    const int64_t duration = rows[marker.row].duration(marker.index);
    if (marker.row + 1 >= rows.size()) return duration;
    const MarkerRow& below = rows[marker.row + 1];
    const auto [from, to] = below.childrenOf(marker.index);
    return duration - (below.busyBefore(to) - below.busyBefore(from));
}

const State* Recording::stages() const {
    for (const State& state : states)
        if (state.name == "stage" && !state.spans.empty()) return &state;
    return nullptr;
}

const StateSpan* Recording::stageAt(int64_t time) const {
    const State* state = stages();
    if (!state) return nullptr;
    const auto after = std::upper_bound(state->spans.begin(), state->spans.end(), time,
                                        [](int64_t t, const StateSpan& s) { return t < s.begin; });
    return after == state->spans.begin() ? nullptr : &after[-1];
}

std::string Recording::valueText(const Argument& argument) const {
    if (argument.type == ArgumentType::Integer) return std::to_string(argument.integer());
    if (argument.type == ArgumentType::Text) return std::string(text(argument.value));
    return shortText(argument.real(), 6);
}

bool OperationRow::anyFailed(size_t from, size_t to) const {
    const auto found = std::lower_bound(failed.begin(), failed.end(), operations[from]);
    return from < to && found != failed.end() && *found <= operations[to - 1];
}

size_t Recording::gravestPoint(size_t from, size_t to) const {
    size_t best = from;
    for (size_t at = from + 1; at < to && points[best].severity != Severity::Error;) {
        const auto known = static_cast<double>(points[best].severity);
        if (at % kExtremeOf == 0 && pointSeverities[at / kExtremeOf].high <= known) {
            at += kExtremeOf;
        } else {
            if (points[at].severity > points[best].severity) best = at;
            ++at;
        }
    }
    return best;
}

size_t Recording::operationsAt(int64_t time) const {
    const auto begun = std::partition_point(operations.begin(), operations.end(),
                                            [&](const Operation& operation) { return operation.begin <= time; });
    const auto ended = std::upper_bound(operationEnds.begin(), operationEnds.end(), time);
    const auto begins = begun - operations.begin(), ends = ended - operationEnds.begin();
    return begins > ends ? static_cast<size_t>(begins - ends) : 0;
}

std::string Recording::argumentsText(const MarkerRef& marker) const {
    std::string text;
    const auto [from, to] = lanes[marker.lane].argumentsOf(marker.row, marker.index);
    for (const Argument* argument = from; argument != to; ++argument)
        text += (text.empty() ? "" : ", ") + keys[argument->key] + " = " + valueText(*argument);
    return text;
}

const Recording::LinkSource* Recording::linkSource(uint64_t link) const {
    const auto found = std::lower_bound(linkSources.begin(), linkSources.end(), link,
                                        [](const LinkSource& s, uint64_t l) { return s.link < l; });
    return found != linkSources.end() && found->link == link ? found : nullptr;
}

std::pair<const Argument*, const Argument*> Lane::argumentsOf(uint32_t row, uint32_t index) const {
    if (row >= arguments.size()) return {};
    const Column<Argument>& all = arguments[row];
    const auto before = [](const Argument& x, const Argument& y) { return x.index < y.index; };
    Argument wanted;
    wanted.index = index;
    const auto [from, to] = std::equal_range(all.begin(), all.end(), wanted, before);
    return {all.data() + (from - all.begin()), all.data() + (to - all.begin())};
}

TimeSplit Lane::splitBetween(int64_t begin, int64_t end) const {
    // Up to an instant, from the first span on.
    const auto until = [&](int64_t time) {
        const auto after = std::lower_bound(schedule.begin(), schedule.end(), time,
                                            [](const ScheduleSpan& span, int64_t t) { return span.begin < t; });
        const auto count = static_cast<size_t>(after - schedule.begin());
        const size_t step = count ? (count - 1) / kScheduleStep : 0;  // the last span may reach beyond
        TimeSplit split = scheduleSums[step];
        for (size_t i = step * kScheduleStep; i < count; ++i)
            split.add(schedule[i].state, std::min(time, schedule[i].end) - schedule[i].begin);
        return split;
    };
    if (scheduleSums.empty() || begin >= end) return {};
    const TimeSplit from = until(begin), to = until(end);
    return {to.ran - from.ran, to.ready - from.ready, to.blocked - from.blocked};
}

int64_t Lane::ranBetween(int64_t begin, int64_t end) const {
    if (schedule.empty()) return busyBetween(begin, end);
    int64_t ran = 0;
    for (auto span = std::upper_bound(schedule.begin(), schedule.end(), begin,
                                      [](int64_t t, const ScheduleSpan&s) { return t < s.end; });
         span != schedule.end() && span->begin < end; ++span)
        if (span->state == ThreadState::Running)
            ran += busyBetween(std::max(begin, span->begin), std::min(end, span->end));
    return ran;
}

const LinkEnd* Lane::askedFor(int64_t begin, int64_t end) const {
    auto in = std::lower_bound(linkIns.begin(), linkIns.end(), begin,
                               [](const LinkEnd& link, int64_t t) { return link.time < t; });
    // At its very end it belongs to what begins there.
    const auto within = [&] { return in != linkIns.end() && (in->time < end || in->time == begin); };
    while (within() && in->endsWait) ++in;
    return within() ? in : nullptr;
}

const ScheduleSpan* Lane::scheduleAt(int64_t time) const {
    const auto after = std::upper_bound(schedule.begin(), schedule.end(), time,
                                        [](int64_t t, const ScheduleSpan& span) { return t < span.begin; });
    return after != schedule.begin() && after[-1].end > time ? &after[-1] : nullptr;
}

uint32_t Recording::process() const {
    const auto told = context.find("process");
    return told == context.end() ? 0 : static_cast<uint32_t>(std::strtoul(told->second.c_str(), nullptr, 10));
}

std::map<uint32_t, std::string> Recording::ownProcesses() const {
    std::map<uint32_t, std::string> own;
    if (const uint32_t told = process()) own[told];
    for (const Lane& lane : lanes) {
        if (lane.program.empty() || lane.kind == LaneKind::Core) continue;
        const auto thread = osThreads.find(static_cast<uint32_t>(lane.osId));
        if (thread != osThreads.end()) own[thread->second.process] = lane.program;
    }
    return own;
}

std::vector<std::string> Recording::programNames() const {
    std::vector<std::string> names;
    for (const Lane& lane : lanes)
        if (!lane.program.empty() && std::find(names.begin(), names.end(), lane.program) == names.end())
            names.push_back(lane.program);
    return names;
}

std::string Recording::osThreadText(uint32_t thread) const {
    if (thread == layout::kIdleThread) return "idle";
    if (thread == layout::kUnknownThread) return "not known";
    if (thread == kStoppedMachine) return "machine stood still";
    for (const Lane& lane : lanes)
        if (lane.kind == LaneKind::Thread && lane.osId == thread) return lane.name;
    const auto known = osThreads.find(thread);
    const std::string number = std::to_string(thread);
    if (known == osThreads.end() || known->second.name.empty()) return "thread " + number;
    return known->second.name + (ownProcesses().count(known->second.process) ? "" : " (another program)");
}

int64_t Recording::samplePeriod() const {
    const auto told = context.find("os samples");  // "every 1000 us of running"
    unsigned long us = 0;
    constexpr unsigned long kMost = 1'000'000'000;
    if (told == context.end() || std::sscanf(told->second.c_str(), "every %lu us", &us) != 1 || us > kMost) return 0;
    return static_cast<int64_t>(us) * 1000;
}

std::vector<std::string> Recording::stageNames() const {
    std::vector<std::string> names;
    const State* state = stages();
    for (size_t i = 0; state && i < state->spans.size(); ++i) {
        const std::string name(text(state->spans[i].value));
        if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
    }
    return names;
}

bool Recording::samplesInSystem() const {
    const auto told = context.find("os samples");
    return told != context.end() && told->second.find("also in the system") != std::string::npos;
}

std::string Recording::addressText(uint64_t address) const {
    char number[32];
    for (const Module& module : modules)
        if (address >= module.address && address - module.address < module.bytes) {
            std::snprintf(number, sizeof number, "+0x%llx",
                          static_cast<unsigned long long>(address - module.address + module.offset));
            return module.path.substr(module.path.rfind('/') + 1) + number;
        }
    std::snprintf(number, sizeof number, "0x%llx", static_cast<unsigned long long>(address));
    return number;
}

}  // namespace fugato
