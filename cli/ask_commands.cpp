// SPDX-License-Identifier: GPL-3.0-or-later
#include "ask_commands.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "command_parts.h"
#include "commands.h"
#include "core/ask/answer_tables.h"
#include "core/ask/core_use.h"
#include "core/ask/coverage_table.h"
#include "core/ask/event_table.h"
#include "core/ask/instant_table.h"
#include "core/ask/marker_statistics.h"
#include "core/ask/memory_table.h"
#include "core/ask/occurrence_table.h"
#include "core/ask/scope_choice.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
#include "core/notes/notes.h"
#include "core/table/writing.h"
#include "format/number_text.h"

namespace fugato {

namespace {

using Json = nlohmann::ordered_json;

/// Sorts and filters as was asked; null after saying why that cannot be.
std::shared_ptr<const Table> arrangedAs(const std::shared_ptr<const Table>& table, const TableOptions& options,
                                        std::ostream& err) {
    Arrangement wanted;
    wanted.words = options.filter;
    wanted.descending = !options.sort.empty() && options.sort[0] == '-';
    const std::string key = options.sort.substr(wanted.descending ? 1 : 0);
    std::string keys;
    for (uint32_t c = 0; c < table->columns().size(); ++c) {
        keys += (c ? ", " : "") + table->columns()[c].key;
        if (table->columns()[c].key == key) wanted.column = c;
    }
    if (!key.empty() && wanted.column == kNone) {
        tellFailure(err, kExitWrongUse, "--sort: there is no column \"" + key + "\"; there are " + keys + ".");
        return nullptr;
    }
    return arranged(table, wanted);
}

/// Writes a table as CSV or text; as JSON where nothing is to stand around it. Returns how many rows were left out
/// below others.
size_t write(const Table& table, const TableOptions& options, size_t depth, std::ostream& out) {
    if (options.json)
        writeJson(table, out);
    else if (options.csv)
        writeCsv(table, out);
    else
        return writeText(table, out, depth);
    if (options.json) out << "\n";
    return 0;
}

int tellNoMarker(const std::string& name, std::ostream& err) {
    return tellFailure(err, kExitNothingFound,
                       "There is no marker named \"" + name + "\". `fugato-cli find` looks for parts of names.");
}

/// What is asked about, and all that was worked out to know it.
class AskedScope {
public:
    AskedScope(std::shared_ptr<const Recording> recording, const ScopeOptions& options, std::ostream& err)
        : recording_(std::move(recording)), options_(options), err_(err) {}

    /// Takes the time and the lanes that were asked for; else says why it cannot, and returns an ExitCode.
    int take() {
        if (const int code = takeTime()) return code;
        return takeLanes();
    }
    const Scope& scope() const { return scope_; }
    const std::shared_ptr<const Explanation>& explained() {
        if (!explained_) {
            symbols_ = symbolsForCommand(*recording_, err_);
            explained_ = explain(recording_, sumCriticalPaths(*recording_, 0), {0, symbols_});
        }
        return explained_;
    }
    bool hasFrames() const { return !recording_->series.empty() && !recording_->series[0].frames.empty(); }
    /// Whether that is known already.
    bool isExplained() const { return explained_ != nullptr; }

private:
    int takeTime() {
        const Recording& r = *recording_;
        ScopeChoice choice;
        ScopeContext context;
        if (options_.frame || options_.spike) {
            choice.of = options_.frame ? ScopeChoice::Of::Frame : ScopeChoice::Of::Spike;
            context.frame = options_.frame ? *options_.frame : *options_.spike;
        } else if (!options_.cause.empty()) {
            choice.of = ScopeChoice::Of::Cause;
        } else if (options_.late) {
            choice.of = ScopeChoice::Of::Late;
        } else if (!options_.stage.empty()) {
            choice.of = ScopeChoice::Of::Stage;
            choice.stage = options_.stage;
        } else {
            return takeSeconds();
        }
        const Explanation* e = nullptr;
        if (choice.of != ScopeChoice::Of::Stage) {
            if (!hasFrames()) return tellFailure(err_, kExitNothingFound, "The recording holds no frames.");
            e = explained().get();
            if (context.frame != kNone && context.frame >= e->frames.size())
                return tellFailure(err_, kExitNothingFound,
                                   "There is no frame " + std::to_string(context.frame) + "; the last one is " +
                                       std::to_string(e->frames.size() - 1) + ".");
            for (uint32_t c = 0; c < e->causes.size(); ++c)
                if (e->causes[c].letter == options_.cause) context.cause = c;
            if (choice.of == ScopeChoice::Of::Cause && context.cause == kNone)
                return tellFailure(
                    err_, kExitNothingFound,
                    "There is no cause \"" + options_.cause + "\". `fugato-cli explain` lists the causes.");
        }
        auto chosen = chosenScope(r, e, choice, context);
        if (!chosen) return tellFailure(err_, kExitNothingFound, chosen.failure().sentence);
        scope_ = std::move(chosen->scope);
        return kExitOk;
    }
    int takeSeconds() {
        const Recording& r = *recording_;
        TimeRange range = wholeOf(r);
        const auto at = [&](double seconds) { return r.begin + static_cast<int64_t>(seconds * 1e9); };
        if (options_.from > 0) range.begin = at(options_.from);
        if (options_.to >= 0) range.end = std::min(range.end, at(options_.to));
        if (range.begin >= range.end) return tellFailure(err_, kExitWrongUse, rangeProblem(r));
        scope_ = range;
        return kExitOk;
    }
    int takeLanes() {
        const Recording& r = *recording_;
        const auto keep = [&](const std::string& wanted, std::string Lane::*its, bool first, const char* which) -> int {
            if (wanted.empty()) return kExitOk;
            for (uint32_t i = 0; i < r.lanes.size(); ++i) {
                if (r.lanes[i].*its != wanted) continue;
                scope_.lanes.resize(r.lanes.size());
                scope_.lanes[i] = 1;
                if (first) return kExitOk;
            }
            if (!scope_.lanes.empty()) return kExitOk;
            return tellFailure(
                err_, kExitNothingFound,
                std::string("There is no lane ") + which + " \"" + wanted + "\". `fugato-cli info` lists the lanes.");
        };
        if (const int code = keep(options_.lane, &Lane::name, true, "named")) return code;
        if (const int code = keep(options_.role, &Lane::role, false, "of the role")) return code;
        return keep(options_.program, &Lane::program, false, "of the program");
    }

    const std::shared_ptr<const Recording> recording_;
    const ScopeOptions& options_;
    std::ostream& err_;
    Scope scope_;
    std::shared_ptr<const Symbols> symbols_;
    std::shared_ptr<const Explanation> explained_;
};

struct MarkersAsked {
    MarkersBy by{};
    std::string around;  // the marker's name
    bool usual = false;
    size_t depth = 0;
};

constexpr std::pair<const char*, MarkersBy> kMarkersBy[] = {{"lane", MarkersBy::Lane},
                                                            {"role", MarkersBy::Role},
                                                            {"leaves", MarkersBy::Leaves},
                                                            {"marker", MarkersBy::Marker},
                                                            {"category", MarkersBy::Category}};

int table(const std::shared_ptr<const Recording>& recording, AskedScope& asked, const MarkersAsked& what,
          const TableOptions& options, std::ostream& out, std::ostream& err) {
    const Recording& r = *recording;
    uint32_t site = kNone;
    if (!what.around.empty()) {
        for (uint32_t i = 0; i < r.sites.size() && site == kNone; ++i)
            if (r.sites[i].name == what.around) site = i;
        if (site == kNone) return tellNoMarker(what.around, err);
    }
    std::shared_ptr<const NestedMarkers> nested;
    std::shared_ptr<const Symbols> symbols;
    if (asked.hasFrames() && (what.usual || asked.isExplained())) {
        nested = UsualMarkers(asked.explained()).of(asked.scope());
        symbols = asked.explained()->symbols;
    } else {
        const auto made = nestedMarkers(r, asked.scope());
        addRanAndAllocated(r, *made);
        nested = made;
    }
    const auto all =
        markerTable(recording, symbols, groupedMarkers(r, nested, site == kNone ? what.by : MarkersBy::Around, site));
    if (!all->countBelow(Table::kTop)) return tellFailure(err, kExitNothingFound, "There are no markers there.");
    const auto shown = arrangedAs(all, options, err);
    if (!shown) return kExitWrongUse;
    const TimeRange around = asked.scope().around();
    if (options.json)
        out << "{\"begin_ns\": " << around.begin << ", \"end_ns\": " << around.end
            << ", \"stretches\": " << asked.scope().stretches.size() << ", \"rows\":\n";
    const size_t left = write(*shown, options, what.depth, out);
    if (options.json) out << "}\n";
    if (left)
        tellNote(err, plural(left, "row is", "rows are") + " left out with what lies in " +
                          (left == 1 ? "it" : "them") + ": nested deeper than " + std::to_string(what.depth) +
                          ". --depth shows more.");
    return kExitOk;
}

std::string figuresText(const Recording& r, const MarkerStatistics& s) {
    const Site& site = r.sites[s.site];
    std::string text = site.name + (site.category.empty() ? "" : " (" + site.category + ")") + "\n";
    for (const std::string& figure : figuresOf(s)) text += "  " + figure + "\n";
    return text;
}

Json figuresJson(const Recording& r, const MarkerStatistics& s) {
    Json one{{"name", r.sites[s.site].name},
             {"category", r.sites[s.site].category},
             {"count", s.count},
             {"total_ns", s.total},
             {"self_ns", s.self},
             {"shortest_ns", s.shortest},
             {"median_ns", s.median},
             {"p95_ns", s.p95},
             {"p99_ns", s.p99},
             {"longest_ns", s.longest}};
    if (s.frames) {
        one["frames"] = s.frames;
        one["frames_with_it"] = s.framesWithIt;
        one["calls_per_frame"] = s.callsPerFrame;
        one["ns_per_frame"] = s.nsPerFrame;
        if (s.worstFrame != kNone) one["worst_frame"] = s.worstFrame;
    }
    return one;
}

int marker(const std::shared_ptr<const Recording>& recording, const Scope& scope, const std::string& name,
           size_t longest, const TableOptions& options, std::ostream& out, std::ostream& err) {
    const Recording& r = *recording;
    bool any = false;
    if (options.json) out << "[";
    for (uint32_t site = 0; site < r.sites.size(); ++site) {
        if (r.sites[site].name != name) continue;
        const auto figures = statisticsOf(r, site, scope, 0);
        const auto shown =
            arrangedAs(occurrenceTable(recording, longestOccurrences(r, site, scope, longest), 0), options, err);
        if (!shown) return kExitWrongUse;
        if (options.json) {
            std::string object = figuresJson(r, *figures).dump();
            object.pop_back();
            out << (any ? ",\n" : "\n") << object << ", \"occurrences\": ";
        } else if (!options.csv) {
            out << figuresText(r, *figures);
        }
        if (figures->count || options.json) write(*shown, options, SIZE_MAX, out);
        if (options.json) out << "}";
        any = true;
    }
    if (options.json) out << "\n]\n";
    return any ? kExitOk : tellNoMarker(name, err);
}

int find(const std::shared_ptr<const Recording>& recording, const std::string& words, const TableOptions& options,
         std::ostream& out, std::ostream& err) {
    const auto found = search(*recording, words);
    const auto all = foundTable(recording, found);
    if (!all->rowLimit()) return tellFailure(err, kExitNothingFound, "Nothing holds \"" + words + "\".");
    const auto shown = arrangedAs(all, options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    if (const uint64_t more = found->allArguments + found->allPoints - found->arguments.size() - found->points.size())
        tellNote(err, countText(more) + " more are left out: look for more letters.");
    return kExitOk;
}

int stacks(const std::shared_ptr<const Recording>& recording, const StackScope& scope, const std::string& by,
           const TableOptions& options, std::ostream& out, std::ostream& err) {
    if ((scope.blocked ? recording->stops : recording->samples).empty())
        return tellFailure(err, kExitNothingFound,
                           scope.blocked
                               ? "The recording holds no call stacks of where threads block. Record some with "
                                 "FUG_OS_BLOCKING and FUG_OS_SWITCHES."
                               : "The recording holds no call stacks. Record some with FUG_OS_SAMPLES.");
    const auto found = stacksIn(*recording, symbolsForCommand(*recording, err), scope);
    if (!found->tree.total()) return tellFailure(err, kExitNothingFound, "There are no call stacks there.");
    const auto tree = by == "callers" ? std::make_shared<const StackTree>(found->tree.fromInnermost())
                                      : std::shared_ptr<const StackTree>(found, &found->tree);
    const auto shown = arrangedAs(by == "function" ? functionTable(found)
                                  : by == "line"   ? lineTable(found)
                                                   : callTable(found, tree),
                                  options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

constexpr std::pair<const char*, WaitsBy> kWaitsBy[] = {
    {"object", WaitsBy::Object}, {"lane", WaitsBy::Lane}, {"marker", WaitsBy::Marker}};

int waits(const Recording& recording, const Scope& scope, WaitsBy by, const TableOptions& options, std::ostream& out,
          std::ostream& err) {
    const auto all = waitTable(waitsIn(recording, scope, by));
    if (!all->rowLimit()) return tellFailure(err, kExitNothingFound, "No thread waited there.");
    const auto shown = arrangedAs(all, options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

constexpr std::pair<const char*, OperationsBy> kOperationsBy[] = {
    {"each", OperationsBy::Each}, {"path", OperationsBy::Path}, {"kind", OperationsBy::What}};

int operations(const std::shared_ptr<const Recording>& recording, const Scope& scope, int64_t least, OperationsBy by,
               const TableOptions& options, std::ostream& out, std::ostream& err) {
    const auto list = operationsIn(*recording, scope, least);
    if (list->longest.empty())
        return tellFailure(err, kExitNothingFound,
                           list->shorter ? "All " + plural(list->shorter, "operation", "operations") +
                                               " there took less than --at-least."
                                         : "The recording tells of no operation or file request there.");
    const auto shown = arrangedAs(operationTable(recording, list, by), options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    if (list->count > list->longest.size())
        tellNote(err, countText(list->count - list->longest.size()) + " shorter ones are left out.");
    return kExitOk;
}

constexpr std::pair<const char*, EventGroup> kEventGroupNames[] = {
    {"markers", EventGroup::Marker},   {"waits", EventGroup::Wait},       {"frames", EventGroup::Frame},
    {"links", EventGroup::Link},       {"points", EventGroup::Point},     {"operations", EventGroup::Operation},
    {"states", EventGroup::State},     {"counters", EventGroup::Counter}, {"memory", EventGroup::Memory},
    {"pictures", EventGroup::Picture}, {"lost", EventGroup::Lost},        {"input", EventGroup::Input}};

int events(const std::shared_ptr<const Recording>& recording, const Scope& scope, const EventFilter& filter,
           size_t last, const TableOptions& options, std::ostream& out, std::ostream& err) {
    const auto list = EventList::of(recording, scope, filter);
    if (!list->size()) return tellFailure(err, kExitNothingFound, "No event of these kinds lies there.");
    TableOptions rest = options;
    rest.filter.clear();  // the list is of those that hold these letters
    const auto all = last ? lastEventTable(list, last) : std::make_shared<EventTable>(list);
    const auto shown = arrangedAs(all, rest, err);
    if (!shown) return kExitWrongUse;
    if (const uint64_t more = shown->leftOut())
        tellNote(err, countText(more) + " more come after these in that order. Ask about a part, or fewer kinds.");
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

Json figuresJson(const FrameFigures& f) {
    Json one{{"frames", f.frames},
             {"over", f.over},
             {"near", f.near},
             {"late_ns", f.late},
             {"shortest_ns", f.shortest},
             {"median_ns", f.median},
             {"p95_ns", f.p95},
             {"p99_ns", f.p99},
             {"longest_ns", f.longest},
             {"deadline_ns", f.deadline},
             {"unevenness_ns", f.unevenness},
             {"late_in_a_row", f.lateInARow}};
    if (f.longestFrame != kNone) one["longest_frame"] = f.longestFrame;
    if (f.lateFrom != kNone) one["late_from"] = f.lateFrom;
    return one;
}

int frames(const std::shared_ptr<const Recording>& recording, AskedScope& asked, const TableOptions& options,
           std::ostream& out, std::ostream& err) {
    if (!asked.hasFrames()) return tellFailure(err, kExitNothingFound, "The recording holds no frames.");
    const Recording& r = *recording;
    const Scope whole = wholeOf(r);
    const auto here = figuresOfFrames(*asked.explained(), asked.scope()),
               all = figuresOfFrames(*asked.explained(), whole);
    if (!here->frames) return tellFailure(err, kExitNothingFound, "No frame begins there.");
    const auto differs =
        arrangedAs(differenceTable(recording, differencesOf(r, *nestedMarkers(r, asked.scope()), here->frames,
                                                            *nestedMarkers(r, whole), all->frames)),
                   options, err);
    if (!differs) return kExitWrongUse;
    if (options.json) {
        std::string object = figuresJson(*here).dump();
        object.pop_back();
        out << object << ", \"differs\": ";
    } else if (!options.csv) {
        for (const std::string& one : textsOf(*here)) out << one << "\n";
        out << "\n";
    }
    write(*differs, options, SIZE_MAX, out);
    if (options.json) out << "}\n";
    return kExitOk;
}

int memory(const std::shared_ptr<const Recording>& recording, const Scope& scope, int64_t instant, bool byMarker,
           const TableOptions& options, std::ostream& out, std::ostream& err) {
    if (recording->pools.empty()) return tellFailure(err, kExitNothingFound, "The recording tells of no memory.");
    const auto figures = memoryFigures(*recording, scope, instant);
    if (byMarker && figures->kept.empty())
        return tellFailure(err, kExitNothingFound, "All memory that was taken there was released by its end.");
    const auto shown =
        arrangedAs(byMarker ? keptTable(recording, figures) : poolTable(recording, figures), options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

int cores(const std::shared_ptr<const Recording>& recording, const Scope& scope, const TableOptions& options,
          std::ostream& out, std::ostream& err) {
    if (!tellsCores(*recording))
        return tellFailure(err, kExitNothingFound,
                           "The recording does not tell what the system did. Record with FUG_OS_SWITCHES.");
    const auto use = coreUse(*recording, scope);
    const auto shown = arrangedAs(coreTable(recording, use), options, err);
    if (!shown) return kExitWrongUse;
    if (!options.json && !options.csv) out << coreSentences(*use) << "\n\n";
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

int instant(const std::shared_ptr<const Recording>& recording, int64_t at, const TableOptions& options,
            std::ostream& out, std::ostream& err) {
    if (at > recording->end)
        return tellFailure(
            err, kExitWrongUse,
            "--at lies after the recording's end at " + durationText(recording->end - recording->begin) + ".");
    const auto all = instantTable(recording, at);
    if (!all->rowLimit()) return tellFailure(err, kExitNothingFound, "Nothing is known of that instant.");
    const auto shown = arrangedAs(all, options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

int notes(const std::shared_ptr<const Recording>& recording, const std::string& file, const TableOptions& options,
          std::ostream& out, std::ostream& err) {
    const auto read = readNotes(notesPath(file));
    if (!read) return tellFailure(err, kExitUnreadable, read.failure().sentence);
    if (read->notes.empty()) return tellFailure(err, kExitNothingFound, "Nothing is noted of this recording.");
    const auto shown = arrangedAs(noteTable(recording, read->notes), options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

int coverage(const std::shared_ptr<const Recording>& recording, const Scope& scope, bool missing,
             const TableOptions& options, std::ostream& out, std::ostream& err) {
    const auto found = coverageOf(*recording, scope);
    if (missing ? found->missing.empty() : found->unmarked.empty())
        return tellFailure(err, kExitNothingFound,
                           missing ? "All markers that the recording knows occur there." : "There are no markers.");
    const auto shown =
        arrangedAs(missing ? missingTable(recording, found) : unmarkedTable(recording, found), options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

int counters(const std::shared_ptr<const Recording>& recording, AskedScope& asked, int64_t instant, bool judged,
             const TableOptions& options, std::ostream& out, std::ostream& err) {
    const bool explained = asked.hasFrames() && (judged || asked.isExplained());
    const auto figures =
        counterFigures(*recording, explained ? asked.explained().get() : nullptr, asked.scope(), instant);
    const auto all = counterTable(recording, figures);
    if (!all->rowLimit()) return tellFailure(err, kExitNothingFound, "The recording tells of no counters or states.");
    const auto shown = arrangedAs(all, options, err);
    if (!shown) return kExitWrongUse;
    write(*shown, options, SIZE_MAX, out);
    return kExitOk;
}

int advice(const std::shared_ptr<const Recording>& recording, const AdviceLimits& limits, const TableOptions& options,
           std::ostream& out, std::ostream& err) {
    if (recording->series.empty() || recording->series[0].frames.empty())
        return tellFailure(err, kExitNothingFound,
                           "The recording holds no frames. Record some with fug_frame_begin and fug_frame_end.");
    const auto e = explain(recording, sumCriticalPaths(*recording, 0), {0, symbolsForCommand(*recording, err)});
    const auto found = adviceFor(*e, limits);
    const auto shown = arrangedAs(adviceFacts(recording, found), options, err);
    if (!shown) return kExitWrongUse;
    if (options.json || options.csv) {
        write(*shown, options, SIZE_MAX, out);
        return kExitOk;
    }
    for (uint32_t at = 0; at < shown->countBelow(Table::kTop); ++at) {
        const Advice& a = (*found)[shown->rowBelow(Table::kTop, at)];
        out << a.title << " (confidence " << confidenceName(a.confidence) << ")\n  " << a.evidence << "\n  " << a.next
            << "\n";
    }
    if (found->empty()) out << "Nothing found beyond what `fugato-cli explain` names.\n";
    return kExitOk;
}

}  // namespace

AskCommands::AskCommands(CLI::App& app)
    : table_(app.add_subcommand("table", "Everything nested in a range of time, by lane")),
      marker_(app.add_subcommand("marker", "How often and how long one marker runs, and its longest occurrences")),
      find_(app.add_subcommand("find", "Markers by name, occurrences by argument (key=value), points by their words")),
      stacks_(app.add_subcommand("stacks", "The functions of the call stacks in a range of time")),
      waits_(app.add_subcommand("waits", "What was waited for, how long, and who held it meanwhile")),
      operations_(app.add_subcommand("operations", "Operations with their layers, and file requests")),
      events_(app.add_subcommand("events", "Everything that happened, in order of time")),
      memory_(app.add_subcommand("memory", "Memory in use, what is large for its kind, and what was not released")),
      frames_(app.add_subcommand("frames", "How long and how even frames are, and how they differ from all")),
      counters_(app.add_subcommand("counters", "Counters and states at an instant and over some time")),
      cores_(app.add_subcommand("cores", "How long threads ran, were ready or blocked, and how busy the cores were")),
      instant_(app.add_subcommand("instant", "Everything that is known of one instant: lanes, states, counters")),
      notes_(app.add_subcommand("notes", "What was noted of the recording, in the file beside it")),
      coverage_(
          app.add_subcommand("coverage", "The longest stretches without a marker, and markers that do not occur")),
      advice_(app.add_subcommand("advice", "Findings beyond single spikes, and what to look at next")) {
    for (CLI::App* command : {table_, marker_, find_, stacks_, waits_, operations_, events_, memory_, frames_,
                              counters_, cores_, instant_, notes_, coverage_, advice_}) {
        command->add_option("FILE", file_, "recording (.fugato or .jsonl)")->required();
        CLI::Option* json = command->add_flag("--json", options_.json, "as JSON");
        command->add_flag("--csv", options_.csv, "as CSV (RFC 4180), times in nanoseconds")->excludes(json);
        command->add_option("--sort", options_.sort, "by the column of this key (as in CSV); -KEY: the largest first");
        command->add_option("--filter", options_.filter, "only rows with these letters, and what lies above and below");
    }
    declareWhat();
    declareHow();
    declareScopes();
}

/// What is asked about.
void AskCommands::declareWhat() {
    marker_->add_option("NAME", words_, "the marker's whole name")->required();
    marker_->add_option("--longest", longest_, "so many of the longest occurrences")
        ->check(numberFrom(0, 1'000'000))
        ->capture_default_str();
    find_->add_option("WORDS", words_, "letters to look for")->required();
    for (CLI::App* command : {counters_, memory_, instant_})
        command->add_option("--at", atSeconds_, "the instant, in seconds since the recording's begin")
            ->check(numberFrom(0.0, 1e9))
            ->capture_default_str();
    operations_->add_option("--at-least", leastMs_, "only those that took so many ms or more")
        ->check(numberFrom(0.0, 1e7))
        ->capture_default_str();
    std::vector<std::string> kinds;
    for (const auto& [name, kind] : kEventGroupNames) kinds.emplace_back(name);
    events_->add_option("--kind", eventKinds_, "only of these kinds: " + CLI::detail::join(kinds, ", "))
        ->check(CLI::IsMember(kinds))
        ->delimiter(',');
    events_->add_option("--severity", severity_, "only points that are at least so severe")
        ->check(CLI::IsMember({"debug", "info", "warning", "error"}))
        ->capture_default_str();
    events_->add_option("--category", category_, "only markers, waits and operations of this category");
    events_->add_option("--last", lastEvents_, "the last so many of each lane instead, by lane")
        ->check(numberFrom(0, 1'000'000));
    coverage_->add_flag("--missing", missing_, "the markers that do not occur there, not the time without one");
    table_->add_option("--around", around_, "the marker of this name: what calls it, and what it calls");
    stacks_->add_flag("--blocked", blocked_, "where threads were blocked and for how long, not where they ran");
    advice_->add_option("--slow-file", slowFileMs_, "ms a file request may take")
        ->check(numberFrom(0.001, 1e7))
        ->capture_default_str();
    advice_
        ->add_option("--allocations", limits_.allocations, "more than so many in one marker of a frame are a finding")
        ->check(numberFrom(0, 1'000'000'000))
        ->capture_default_str();
    advice_->add_option("--messages", limits_.messages, "so many of one lane in a frame are a finding")
        ->check(numberFrom(0, 1'000'000'000))
        ->capture_default_str();
}

/// How the answer is put together.
void AskCommands::declareHow() {
    table_
        ->add_option("--by", by_,
                     "nested by lane or role; leaves: each marker's own time, below it its callers; or flat, by marker "
                     "or category")
        ->check(CLI::IsMember({"lane", "role", "leaves", "marker", "category"}))
        ->capture_default_str();
    waits_->add_option("--by", waitsBy_, "by what was waited for, by the lane or by the marker that waited")
        ->check(CLI::IsMember({"object", "lane", "marker"}))
        ->capture_default_str();
    operations_->add_option("--by", operationsBy_, "each by itself, or together by path or by kind")
        ->check(CLI::IsMember({"each", "path", "kind"}))
        ->capture_default_str();
    memory_->add_option("--by", memoryBy_, "by pool with its resources; or what was not released, by marker")
        ->check(CLI::IsMember({"pool", "marker"}))
        ->capture_default_str();
    counters_->add_flag("--judge", usual_, "also in how many late frames and others they were above their thresholds");
    table_->add_flag("--usual", usual_, "beside what is usual in as many frames");
    stacks_
        ->add_option("--by", stacksBy_,
                     "by function or line of the source; or as a tree: what each calls, or who called it")
        ->check(CLI::IsMember({"function", "line", "calls", "callers"}))
        ->capture_default_str();
    table_->add_option("--depth", depth_, "rows nested so deep")
        ->check(numberFrom(0, 1'000'000))
        ->capture_default_str();
}

/// The stretch of time and the lanes that are asked about.
void AskCommands::declareScopes() {
    for (CLI::App* command :
         {table_, marker_, stacks_, waits_, operations_, events_, memory_, frames_, counters_, cores_, coverage_}) {
        CLI::Option* const one[] = {
            command->add_option("--frame", scope_.frame, "only this frame, counted from 0")
                ->check(numberFrom(0u, UINT32_MAX - 1)),
            command->add_option("--spike", scope_.spike, "only the late frames in a row to which this frame belongs")
                ->check(numberFrom(0u, UINT32_MAX - 1)),
            command->add_option("--cause", scope_.cause, "only the late frames of the cause of this letter"),
            command->add_flag("--late", scope_.late, "only late frames"),
            command->add_option("--stage", scope_.stage, "only the stage of this name"),
            command->add_option("--from", scope_.from, "seconds since the recording's begin")
                ->check(numberFrom(0.0, 1e9)),
            command->add_option("--to", scope_.to, "seconds since the recording's begin")->check(numberFrom(0.0, 1e9))};
        constexpr size_t kSeconds = 5;  // --from and --to go together
        for (size_t i = 0; i < std::size(one); ++i)
            for (size_t other = i + 1; other < std::size(one); ++other)
                if (i < kSeconds) one[i]->excludes(one[other]);
        CLI::Option* const lane = command->add_option("--lane", scope_.lane, "only the lane of this name");
        CLI::Option* const role = command->add_option("--role", scope_.role, "only lanes of this role")->excludes(lane);
        command->add_option("--program", scope_.program, "only lanes of this program, of a recording of several")
            ->excludes(lane)
            ->excludes(role);
    }
}

bool AskCommands::chosen() const {
    return table_->parsed() || marker_->parsed() || find_->parsed() || stacks_->parsed() || waits_->parsed() ||
           operations_->parsed() || events_->parsed() || memory_->parsed() || frames_->parsed() ||
           counters_->parsed() || cores_->parsed() || instant_->parsed() || notes_->parsed() || coverage_->parsed() ||
           advice_->parsed();
}

int AskCommands::run(std::ostream& out, std::ostream& err) const {
    const auto opened = openForCommand(file_, err);
    if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
    const Recording& r = **opened;
    tellDamage(r, err);
    if (advice_->parsed()) {
        AdviceLimits limits = limits_;
        limits.slowFile = static_cast<int64_t>(slowFileMs_ * 1e6);
        return advice(*opened, limits, options_, out, err);
    }
    if (find_->parsed()) return find(*opened, words_, options_, out, err);
    if (notes_->parsed()) return notes(*opened, file_, options_, out, err);
    if (instant_->parsed())
        return instant(*opened, r.begin + static_cast<int64_t>(atSeconds_ * 1e9), options_, out, err);
    return runInScope(*opened, out, err);
}

int AskCommands::runInScope(const std::shared_ptr<const Recording>& recording, std::ostream& out,
                            std::ostream& err) const {
    AskedScope asked(recording, scope_, err);
    if (const int code = asked.take()) return code;
    if (stacks_->parsed()) return stacks(recording, {asked.scope(), blocked_}, stacksBy_, options_, out, err);
    if (waits_->parsed()) {
        for (const auto& [name, by] : kWaitsBy)
            if (waitsBy_ == name) return waits(*recording, asked.scope(), by, options_, out, err);
    }
    const int64_t instant = recording->begin + static_cast<int64_t>(atSeconds_ * 1e9);
    if (counters_->parsed()) return counters(recording, asked, instant, usual_, options_, out, err);
    if (cores_->parsed()) return cores(recording, asked.scope(), options_, out, err);
    if (coverage_->parsed()) return coverage(recording, asked.scope(), missing_, options_, out, err);
    if (memory_->parsed()) return memory(recording, asked.scope(), instant, memoryBy_ == "marker", options_, out, err);
    if (frames_->parsed()) return frames(recording, asked, options_, out, err);
    if (events_->parsed()) {
        EventFilter filter;
        if (!eventKinds_.empty()) filter.kinds = 0;
        for (const auto& [name, kind] : kEventGroupNames)
            if (std::find(eventKinds_.begin(), eventKinds_.end(), name) != eventKinds_.end())
                filter.kinds |= 1u << static_cast<unsigned>(kind);
        const auto severity =
            std::find(std::begin(layout::kWords<Severity>), std::end(layout::kWords<Severity>), severity_);
        filter.least = static_cast<Severity>(severity - std::begin(layout::kWords<Severity>));
        filter.category = category_;
        filter.words = options_.filter;
        return events(recording, asked.scope(), filter, lastEvents_, options_, out, err);
    }
    if (operations_->parsed()) {
        for (const auto& [name, by] : kOperationsBy)
            if (operationsBy_ == name)
                return operations(recording, asked.scope(), static_cast<int64_t>(leastMs_ * 1e6), by, options_, out,
                                  err);
    }
    if (marker_->parsed()) return marker(recording, asked.scope(), words_, longest_, options_, out, err);
    MarkersAsked what{MarkersBy::Lane, around_, usual_, depth_};
    for (const auto& [name, by] : kMarkersBy)
        if (by_ == name) what.by = by;
    return table(recording, asked, what, options_, out, err);
}

}  // namespace fugato
