// SPDX-License-Identifier: GPL-3.0-or-later
#include "merging.h"

#include <algorithm>
#include <filesystem>
#include <set>
#include <unordered_map>

#include "opening.h"
#include "recording_file.h"

namespace fugato {

namespace {

using layout::DefinitionType;

/// Programs have the same addresses of code and the same numbers of links: in the merged recording the uppermost bits
/// tell them apart. Addresses of the system's own code are the same for all.
constexpr int kProgramBit = 56;
constexpr size_t kMostParts = 100;

struct Program {
    std::string name;
    uint32_t process = 0;
    int64_t shift = 0;  // from its recording's time to the merged one's
    std::set<uint32_t> threads;
    std::map<uint32_t, uint32_t> renumbered;  // those whose numbers an earlier program has too (in another container)
    // What its recording tells of cores.
    bool tellsOthers = false;
    int64_t coresBegin = INT64_MAX, coresEnd = INT64_MIN;
    bool tellsCoresAt(int64_t time) const { return time >= coresBegin && time <= coresEnd; }
};

/// As late as can be told where it would be later.
int64_t later(int64_t time, int64_t shift) {
    int64_t sum = 0;
    return __builtin_add_overflow(time, shift, &sum) ? INT64_MAX : sum;
}

bool isOfCores(EventKind kind) {
    return kind == EventKind::Switch || kind == EventKind::Sample || kind == EventKind::WakeUp ||
           kind == EventKind::ThreadEnd;
}

class Merging {
public:
    explicit Merging(std::vector<MergePart>& parts) : parts_(parts) {}

    Result<EventStore> run(const Progress& progress) {
        if (auto problem = setSideBySide()) return Failure{*problem};
        const size_t all = eventCount();
        for (uint32_t i = 0; i < parts_.size(); ++i) {
            part_ = i;
            ids_.clear();
            for (const Definition& definition : parts_[i].recording.definitions)
                std::visit([&](const auto& d) { define(d); }, definition);
            for (auto& [lane, events] : parts_[i].recording.lanes) {
                if (progress && !progress(static_cast<double>(merged_.eventCount()) / static_cast<double>(all + 1)))
                    return Failure{"Merging was cancelled.", true};
                for (const Event& event : events) take(lane, event);
            }
            parts_[i].recording = {};
        }
        tellContext();
        for (const auto& [core, lane] : coreLanes_) mergeCore(lane);
        return std::move(merged_);
    }

private:
    using Context = std::map<std::string, std::string>;
    struct CoreEvent {
        int64_t time;  // the latest so far of its recording
        uint32_t part;
        Event event;
    };

    size_t eventCount() const {
        size_t count = 0;
        for (const MergePart& part : parts_) count += part.recording.eventCount();
        return count;
    }

    // ---- the parts ------------------------------------------------------------------------------------------

    /// What tells against merging, or nothing.
    std::optional<std::string> setSideBySide() {
        if (parts_.size() < 2) return "It takes two recordings or more to merge. Name another.";
        if (parts_.size() > kMostParts)
            return "At most " + std::to_string(kMostParts) + " recordings can be merged at once. Name fewer.";
        int64_t began = INT64_MAX, lastBegin = INT64_MIN, firstEnd = INT64_MAX;
        std::string lastBeginner, firstEnder;
        for (const MergePart& part : parts_) {
            Context& context = contexts_.emplace_back();
            for (const Definition& definition : part.recording.definitions)
                if (const auto* d = std::get_if<ContextDefinition>(&definition)) context[d->key] = d->value;
            for (const Definition& definition : part.recording.definitions)
                if (const auto* lane = std::get_if<LaneDefinition>(&definition); lane && !lane->program.empty())
                    return part.file + " holds several programs already. Merge the recordings that it was made of.";
            const int64_t started = part.recording.startedUnixNs;
            if (!started)
                return part.file +
                       " does not tell when it was made, so it cannot be set beside another. Record it anew "
                       "by a clock of the machine.";
            began = std::min(began, started);
        }
        for (size_t i = 0; i < parts_.size(); ++i) {
            const MergePart& part = parts_[i];
            Program program;
            if (__builtin_sub_overflow(part.recording.startedUnixNs, began, &program.shift)) program.shift = INT64_MAX;
            program.process = static_cast<uint32_t>(std::strtoul(contexts_[i]["process"].c_str(), nullptr, 10));
            program.name = nameFor(i);
            const std::string& id = contexts_[i][layout::kRecordingIdKey];
            for (size_t before = 0; before < i; ++before)
                if (!id.empty() && contexts_[before][layout::kRecordingIdKey] == id)
                    return parts_[before].file + " and " + part.file + " are the same recording. Leave one out.";
            for (const char* key : {"system", "processor", "cores"}) {
                const std::string first = contexts_.front()[key], own = contexts_[i][key];
                if (!first.empty() && !own.empty() && first != own)
                    return parts_.front().file + " and " + part.file + " were made on different machines (" + key +
                           ": " + first + "; " + own + "). Their clocks cannot be set side by side.";
            }
            int64_t begin = INT64_MAX, end = INT64_MIN;
            for (const auto& [lane, events] : part.recording.lanes)
                for (const Event& event : events) {
                    begin = std::min(begin, event.time);
                    end = std::max(end, event.time);
                }
            if (begin > end) return part.file + " holds no event. Leave it out.";
            if (later(begin, program.shift) > lastBegin) {
                lastBegin = later(begin, program.shift);
                lastBeginner = part.file;
            }
            if (later(end, program.shift) < firstEnd) {
                firstEnd = later(end, program.shift);
                firstEnder = part.file;
            }
            findThreads(part.recording, program);
            renumber(program);
            programs_.push_back(std::move(program));
        }
        if (lastBegin > firstEnd)
            return firstEnder + " ended before " + lastBeginner + " began. Record them at the same time.";
        merged_.startedUnixNs = began;
        return std::nullopt;
    }

    std::string nameFor(size_t part) {
        std::string name = contexts_[part]["program"];
        if (name.empty()) name = std::filesystem::path(parts_[part].file).stem().string();
        const std::string plain = name;
        const auto taken = [&] {
            return std::any_of(programs_.begin(), programs_.end(), [&](const Program& p) { return p.name == name; });
        };
        for (int number = 2; taken(); ++number) name = plain + " " + std::to_string(number);
        return name;
    }

    static void findThreads(const EventStore& recording, Program& program) {
        std::set<uint32_t> cores;
        if (program.process) program.threads.insert(program.process);
        for (const Definition& definition : recording.definitions) {
            if (const auto* lane = std::get_if<LaneDefinition>(&definition)) {
                if (lane->kind == LaneKind::Core)
                    cores.insert(lane->id);
                else if (lane->osId)
                    program.threads.insert(static_cast<uint32_t>(lane->osId));
            } else if (const auto* thread = std::get_if<OsThreadDefinition>(&definition)) {
                if (program.process && thread->process == program.process) program.threads.insert(thread->id);
            }
        }
        for (const auto& [lane, events] : recording.lanes) {
            if (!cores.count(lane)) continue;
            for (const Event& event : events) {
                if (!isOfCores(event.kind)) continue;
                program.coresBegin = std::min(program.coresBegin, later(event.time, program.shift));
                program.coresEnd = std::max(program.coresEnd, later(event.time, program.shift));
                if (event.kind == EventKind::Switch && event.id != layout::kUnknownThread)
                    program.tellsOthers |= !program.threads.count(event.id);
            }
        }
    }

    void renumber(Program& program) {
        std::set<uint32_t> threads;
        for (const uint32_t thread : program.threads) {
            const bool taken = std::any_of(programs_.begin(), programs_.end(),
                                           [&](const Program& before) { return before.threads.count(thread); });
            if (taken) program.renumbered[thread] = nextThread_;
            threads.insert(taken ? nextThread_++ : thread);
        }
        program.threads = std::move(threads);
        program.process = numberIn(program, program.process);
    }
    static uint32_t numberIn(const Program& program, uint32_t thread) {
        const auto other = program.renumbered.find(thread);
        return other == program.renumbered.end() ? thread : other->second;
    }
    uint32_t threadOf(uint64_t thread) const { return numberIn(programs_[part_], static_cast<uint32_t>(thread)); }

    // ---- names ----------------------------------------------------------------------------------------------

    /// An id of the part's own in the merged recording. 0 is nothing told where it may be.
    uint32_t idOf(DefinitionType type, uint32_t id) {
        if (!id && type == DefinitionType::Object) return 0;
        if (!id && type == DefinitionType::Pool && part_ == 0) return 0;
        const auto [known, isNew] = ids_.try_emplace({type, id}, 0);
        if (isNew) {
            known->second = ++lastId_[type];
            if (!id && type == DefinitionType::Pool)  // its heap, which needs no definition in a recording of its own
                merged_.define(PoolDefinition{known->second, named("heap")});
        }
        return known->second;
    }
    std::string named(const std::string& name) const {
        return part_ == 0 || name.empty() ? name : programs_[part_].name + ": " + name;
    }
    uint64_t numberOf(uint64_t number) const {  // of links and operations, and addresses of memory
        return number ? number ^ static_cast<uint64_t>(part_) << kProgramBit : 0;
    }
    uint64_t codeAt(uint64_t address) const {
        return address >> kProgramBit ? address : address | static_cast<uint64_t>(part_) << kProgramBit;
    }

    void define(const LaneDefinition& d) {
        LaneDefinition lane = d;
        if (d.kind == LaneKind::Core) {
            const auto [known, isNew] = coreLanes_.try_emplace({d.osId, d.name}, 0);
            if (isNew) lane.id = known->second = ++lastId_[DefinitionType::Lane];
            if (isNew) merged_.define(lane);
            ids_[{DefinitionType::Lane, d.id}] = known->second;
            coreIds_.insert(known->second);
            return;
        }
        lane.id = idOf(DefinitionType::Lane, d.id);
        lane.osId = threadOf(d.osId);
        lane.program = programs_[part_].name;
        lane.role = named(d.role);
        lane.name = named(d.name.empty() && part_ ? threadName(d) : d.name);
        merged_.define(lane);
        if (lane.osId && programs_[part_].process)  // so that it is known as one of the recorded programs
            merged_.define(
                OsThreadDefinition{static_cast<uint32_t>(lane.osId), programs_[part_].process, lane.name, 0});
    }
    std::string threadName(const LaneDefinition& lane) const {
        if (lane.osId && threadOf(lane.osId) == programs_[part_].process) return "main thread";
        return std::string(wordOf(lane.kind)) + " " + std::to_string(lane.osId ? lane.osId : lane.id);
    }
    void define(const OsThreadDefinition& d) {
        const uint32_t thread = threadOf(d.id);
        const Program* own = ownerOf(thread);
        const bool ours = own == &programs_[part_];
        if (!own || ours)
            merged_.define(OsThreadDefinition{thread, threadOf(d.process), ours ? named(d.name) : d.name, d.system});
    }
    void define(const SeriesDefinition& d) { definedAs(d, named(d.name)); }
    void define(const ObjectDefinition& d) { definedAs(d, named(d.name)); }
    void define(const CounterDefinition& d) { definedAs(d, named(d.name)); }
    void define(const StateDefinition& d) { definedAs(d, named(d.name)); }
    void define(const PoolDefinition& d) {
        if (d.id) return definedAs(d, named(d.name));
        merged_.define(PoolDefinition{idOf(DefinitionType::Pool, 0), named(d.name)});
    }
    void define(const SiteDefinition& d) { definedAs(d, d.name); }
    void define(const KeyDefinition& d) { definedAs(d, d.name); }
    void define(const ModuleDefinition& d) {
        ModuleDefinition module = d;
        module.address = codeAt(d.address);
        merged_.define(module);
    }
    void define(const ContextDefinition&) {}  // see tellContext()
    template <class Told>
    void definedAs(Told told, const std::string& name) {
        told.id = idOf(Told::kType, told.id);
        told.name = name;
        merged_.define(told);
    }

    /// What all say is said once; what only one says, as it says it; else those of the others with their program.
    void tellContext() {
        XXH64_hash_t id[2] = {};
        std::map<std::string, std::string> told;
        std::string names;
        for (uint32_t i = 0; i < parts_.size(); ++i) {
            names += (i ? " + " : "") + programs_[i].name;
            for (const auto& [key, value] : contexts_[i]) {
                if (key == layout::kRecordingIdKey)
                    for (uint64_t half : {0, 1})
                        id[half] = XXH3_64bits_withSeed(value.data(), value.size(), id[half] + half);
                if (key == layout::kRecordingIdKey || key == "program" || value.empty()) continue;
                const auto [known, isNew] = told.try_emplace(key, value);
                if (!isNew && known->second != value) told[programs_[i].name + ": " + key] = value;
            }
        }
        told["program"] = names;
        told[layout::kRecordingIdKey] = layout::uuidText(id[0], id[1], 8);
        for (const auto& [key, value] : told) merged_.define(ContextDefinition{key, value});
    }

    // ---- events ---------------------------------------------------------------------------------------------

    void take(uint32_t lane, const Event& told) {
        if (!layout::kindIsKnown(told.kind)) return;
        Event event = told;
        event.time = later(event.time, programs_[part_].shift);
        const auto& schema = layout::schemaOf(event.kind);
        if (schema.id.kind == layout::ValueKind::Id) event.id = idOf(schema.id.of, event.id);
        if (schema.a.kind == layout::ValueKind::Id) event.a = idOf(schema.a.of, static_cast<uint32_t>(event.a));
        std::string stack;
        switch (event.kind) {
            case EventKind::WaitEnd:
            case EventKind::LinkOut:
            case EventKind::LinkIn:
            case EventKind::OperationBegin:
            case EventKind::OperationStep:
            case EventKind::OperationEnd:
            case EventKind::MemoryTaken:
            case EventKind::MemoryGiven: event.a = numberOf(event.a); break;
            case EventKind::Picture: event.id = idOf({}, event.id); break;
            case EventKind::Switch:
            case EventKind::ThreadEnd: event.id = threadOf(event.id); break;
            case EventKind::WakeUp:
                event.id = threadOf(event.id);
                event.a = threadOf(event.a);
                break;
            case EventKind::Sample:
                event.id = threadOf(event.id);
                stack = movedStack(event.text);
                event.text = stack;
                break;
            default: break;
        }
        const uint32_t to = idOf(DefinitionType::Lane, lane);
        merged_.event(to, event);
        if (coreIds_.count(to)) partOfCoreEvent_[to].push_back(part_);
    }

    std::string movedStack(std::string_view text) const {
        const auto* at = reinterpret_cast<const uint8_t*>(text.data());
        const uint8_t* const end = at + text.size();
        std::string moved;
        uint64_t address = 0, before = 0, change = 0;
        while (layout::readVarint(at, end, change)) {
            address += static_cast<uint64_t>(layout::unzigzag(change));
            layout::appendVarint(moved, layout::zigzag(static_cast<int64_t>(codeAt(address) - before)));
            before = codeAt(address);
        }
        return moved;
    }

    // ---- cores ----------------------------------------------------------------------------------------------

    const Program* ownerOf(uint32_t thread) const {
        for (const Program& program : programs_)
            if (program.threads.count(thread)) return &program;
        return nullptr;
    }
    /// Whose recording is believed of a thread (0: of the core being idle), or null.
    const Program* tellerOf(uint32_t thread, int64_t time) const {
        if (const Program* owner = thread ? ownerOf(thread) : nullptr; owner && owner->tellsCoresAt(time)) return owner;
        for (const Program& program : programs_)
            if (program.tellsOthers && program.tellsCoresAt(time)) return &program;
        return nullptr;
    }

    /// Several recordings told of one core: who had it when, once.
    void mergeCore(uint32_t lane) {
        std::vector<Event>& events = merged_.lanes[lane];
        const std::vector<uint32_t>& parts = partOfCoreEvent_[lane];
        std::vector<CoreEvent> told;
        int64_t latest = INT64_MIN;
        for (size_t i = 0; i < events.size(); ++i) {
            if (!i || parts[i] != parts[i - 1]) latest = INT64_MIN;
            latest = std::max(latest, events[i].time);
            told.push_back({latest, parts[i], events[i]});
        }
        std::stable_sort(told.begin(), told.end(),
                         [](const CoreEvent& x, const CoreEvent& y) { return x.time < y.time; });
        events.clear();
        uint32_t running = layout::kUnknownThread;
        const Program* by = nullptr;  // who told of it
        for (CoreEvent& one : told) {
            const Program* const teller = &programs_[one.part];
            if (!isOfCores(one.event.kind)) {
                events.push_back(one.event);
                continue;
            }
            const bool believed = one.event.id != layout::kUnknownThread && tellerOf(one.event.id, one.time) == teller;
            if (one.event.kind != EventKind::Switch) {
                if (!believed) continue;
                events.push_back(one.event);
                if (one.event.kind == EventKind::ThreadEnd && running == one.event.id) running = layout::kUnknownThread;
                continue;
            }
            if (!believed) {  // it only tells that what it told of no longer runs
                if (by != teller || running == layout::kUnknownThread) continue;
                one.event.id = layout::kUnknownThread;
            }
            if (one.event.id == running && by != teller) continue;  // it is told already
            running = one.event.id;
            by = teller;
            events.push_back(one.event);
        }
    }

    std::vector<MergePart>& parts_;
    std::vector<Program> programs_;
    uint32_t nextThread_ = 1u << 30;  // beyond the numbers that Linux gives
    std::vector<Context> contexts_;   // by part
    EventStore merged_;
    uint32_t part_ = 0;                                            // that is being taken
    std::map<std::pair<DefinitionType, uint32_t>, uint32_t> ids_;  // its own
    std::map<DefinitionType, uint32_t> lastId_;
    std::map<std::pair<uint64_t, std::string>, uint32_t> coreLanes_;  // by number and name
    std::set<uint32_t> coreIds_;
    std::unordered_map<uint32_t, std::vector<uint32_t>> partOfCoreEvent_;  // by lane
};

}  // namespace

Result<EventStore> mergeRecordings(std::vector<MergePart>& parts, const Progress& progress) {
    return Merging(parts).run(progress);
}

Result<std::vector<std::string>> mergeRecordingFiles(const std::vector<std::string>& files, const std::string& out,
                                                     const Progress& progress) {
    std::error_code unknown;
    if (std::filesystem::exists(out, unknown))
        return Failure{out + " is there already. Choose another name.", false, true};
    std::vector<std::string> notes;
    std::vector<MergePart> parts;
    const auto steps = static_cast<double>(files.size() + 2);  // reading each, merging, writing
    const auto stepOf = [&](size_t step) -> Progress {
        return [&progress, step, steps](double part) {
            return !progress || progress((static_cast<double>(step) + part) / steps);
        };
    };
    for (const std::string& file : files) {
        MergePart& part = parts.emplace_back();
        part.file = file;
        const auto damage = readRecordingFile(file, part.recording, stepOf(parts.size() - 1));
        if (!damage) return damage.failure();
        for (const std::string& note : damage->notes) notes.push_back(file + ": " + note);
    }
    auto merged = mergeRecordings(parts, stepOf(files.size()));
    if (!merged) return merged.failure();
    if (auto written = writeRecordingFile(out, *merged, stepOf(files.size() + 1)); !written) return written.failure();
    return notes;
}

}  // namespace fugato
