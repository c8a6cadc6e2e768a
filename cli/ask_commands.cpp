// SPDX-License-Identifier: GPL-3.0-or-later
#include "ask_commands.h"

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "command_parts.h"
#include "commands.h"
#include "core/ask/answer_tables.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
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

/// The lane of a name; kNone where there is none, or none is asked for.
uint32_t laneNamed(const Recording& r, const std::string& name) {
    for (uint32_t i = 0; i < r.lanes.size() && !name.empty(); ++i)
        if (r.lanes[i].name == name) return i;
    return kNone;
}

int table(const std::shared_ptr<const Recording>& recording, const TimeRange& range, const std::string& lane,
          size_t depth, const TableOptions& options, std::ostream& out, std::ostream& err) {
    const Recording& r = *recording;
    const uint32_t only = laneNamed(r, lane);
    const auto all = rangeTable(recording, *tableOfRange(r, range), only);
    if (!all->countBelow(Table::kTop) || (!lane.empty() && only == kNone))
        return tellFailure(err, kExitNothingFound,
                           lane.empty() ? "There are no markers in this range."
                                        : "There is no lane named \"" + lane +
                                              "\" with markers in this range. `fugato-cli info` "
                                              "lists the lanes.");
    const auto shown = arrangedAs(all, options, err);
    if (!shown) return kExitWrongUse;
    if (options.json) out << "{\"begin_ns\": " << range.begin << ", \"end_ns\": " << range.end << ", \"lanes\":\n";
    const size_t left = write(*shown, options, depth, out);
    if (options.json) out << "}\n";
    if (left)
        tellNote(err, plural(left, "row is", "rows are") + " left out with what lies in " +
                          (left == 1 ? "it" : "them") + ": nested deeper than " + std::to_string(depth) +
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

int marker(const std::shared_ptr<const Recording>& recording, const TimeRange& range, const std::string& name,
           size_t longest, const TableOptions& options, std::ostream& out, std::ostream& err) {
    const Recording& r = *recording;
    bool any = false;
    if (options.json) out << "[";
    for (uint32_t site = 0; site < r.sites.size(); ++site) {
        if (r.sites[site].name != name) continue;
        const auto figures = statisticsOf(r, site, range, 0);
        const auto shown =
            arrangedAs(occurrenceTable(recording, longestOccurrences(r, site, range, longest), 0), options, err);
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
    if (!any)
        return tellFailure(err, kExitNothingFound,
                           "There is no marker named \"" + name + "\". `fugato-cli find` looks for parts of names.");
    return kExitOk;
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

int stacks(const std::shared_ptr<const Recording>& recording, StackScope scope, const std::string& lane,
           const TableOptions& options, std::ostream& out, std::ostream& err) {
    scope.lane = laneNamed(*recording, lane);
    if (!lane.empty() && scope.lane == kNone)
        return tellFailure(err, kExitNothingFound,
                           "There is no lane named \"" + lane + "\". `fugato-cli info` lists the lanes.");
    if ((scope.blocked ? recording->stops : recording->samples).empty())
        return tellFailure(err, kExitNothingFound,
                           scope.blocked
                               ? "The recording holds no call stacks of where threads block. Record some with "
                                 "FUG_OS_BLOCKING and FUG_OS_SWITCHES."
                               : "The recording holds no call stacks. Record some with FUG_OS_SAMPLES.");
    const auto found = stacksIn(*recording, symbolsForCommand(*recording, err), scope);
    if (!found->tree.total()) return tellFailure(err, kExitNothingFound, "There are no call stacks in this range.");
    const auto shown = arrangedAs(functionTable(found), options, err);
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
      advice_(app.add_subcommand("advice", "Findings beyond single spikes, and what to look at next")) {
    for (CLI::App* command : {table_, marker_, find_, stacks_, advice_}) {
        command->add_option("FILE", file_, "recording (.fugato or .jsonl)")->required();
        CLI::Option* json = command->add_flag("--json", options_.json, "as JSON");
        command->add_flag("--csv", options_.csv, "as CSV (RFC 4180), times in nanoseconds")->excludes(json);
        command->add_option("--sort", options_.sort, "by the column of this key (as in CSV); -KEY: the largest first");
        command->add_option("--filter", options_.filter, "only rows with these letters, and what lies above and below");
    }
    marker_->add_option("NAME", words_, "the marker's whole name")->required();
    marker_->add_option("--longest", longest_, "so many of the longest occurrences")
        ->check(numberFrom(0, 1'000'000))
        ->capture_default_str();
    find_->add_option("WORDS", words_, "letters to look for")->required();
    for (CLI::App* command : {table_, stacks_}) command->add_option("--lane", lane_, "only the lane of this name");
    stacks_->add_flag("--blocked", blocked_, "where threads were blocked and for how long, not where they ran");
    table_->add_option("--depth", depth_, "rows nested so deep")
        ->check(numberFrom(0, 1'000'000))
        ->capture_default_str();
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
    for (CLI::App* command : {table_, marker_, stacks_}) {
        command->add_option("--from", fromSeconds_, "seconds since the recording's begin")->check(numberFrom(0.0, 1e9));
        command->add_option("--to", toSeconds_, "seconds since the recording's begin")->check(numberFrom(0.0, 1e9));
    }
}

bool AskCommands::chosen() const {
    return table_->parsed() || marker_->parsed() || find_->parsed() || stacks_->parsed() || advice_->parsed();
}

int AskCommands::run(std::ostream& out, std::ostream& err) const {
    const auto opened = openForCommand(file_, err);
    if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
    const Recording& r = **opened;
    tellDamage(r, err);
    TimeRange range = wholeOf(r);
    const auto at = [&](double seconds) { return r.begin + static_cast<int64_t>(seconds * 1e9); };
    if (fromSeconds_ > 0) range.begin = at(fromSeconds_);
    if (toSeconds_ >= 0) range.end = std::min(range.end, at(toSeconds_));
    if (range.begin >= range.end) return tellFailure(err, kExitWrongUse, rangeProblem(r));
    if (advice_->parsed()) {
        AdviceLimits limits = limits_;
        limits.slowFile = static_cast<int64_t>(slowFileMs_ * 1e6);
        return advice(*opened, limits, options_, out, err);
    }
    if (stacks_->parsed()) return stacks(*opened, {range, kNone, blocked_}, lane_, options_, out, err);
    if (table_->parsed()) return table(*opened, range, lane_, depth_, options_, out, err);
    if (marker_->parsed()) return marker(*opened, range, words_, longest_, options_, out, err);
    return find(*opened, words_, options_, out, err);
}

}  // namespace fugato
