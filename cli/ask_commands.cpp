// SPDX-License-Identifier: GPL-3.0-or-later
#include "ask_commands.h"

#include <CLI/CLI.hpp>
#include <iomanip>
#include <nlohmann/json.hpp>

#include "command_parts.h"
#include "commands.h"
#include "core/ask/marker_statistics.h"
#include "core/ask/search.h"
#include "core/ask/stretch_table.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
#include "format/number_text.h"

namespace fugato {

namespace {

using Json = nlohmann::ordered_json;

Json tableJson(const Recording& r, const StretchTable& table, uint32_t at) {
    const StretchRow& row = table.rows[at];
    Json json{{"name", row.path ? r.nameOf(row.path) : r.lanes[row.lane].name},
              {"total_ns", row.total},
              {"count", row.count}};
    if (row.path) {
        json["self_ns"] = row.self;
        json["longest_ns"] = row.longest;
    }
    json["below"] = Json::array();
    for (const uint32_t child : row.children) json["below"].push_back(tableJson(r, table, child));
    return json;
}

/// Returns how many rows are left out, since they lie deeper.
size_t printTable(const Recording& r, const StretchTable& table, uint32_t at, size_t depth, size_t most,
                  std::ostream& out) {
    const StretchRow& row = table.rows[at];
    const std::string name = row.path ? r.nameOf(row.path) : r.lanes[row.lane].name;
    out << std::right << std::setw(12) << durationText(row.total) << std::setw(14)
        << (row.path ? durationText(row.self) : "") << std::setw(14) << countText(row.count) << std::setw(12)
        << (row.path ? durationText(row.longest) : "") << "  " << std::string(2 * depth, ' ') << name << "\n";
    if (depth >= most) return row.children.size();
    size_t left = 0;
    for (const uint32_t child : row.children) left += printTable(r, table, child, depth + 1, most, out);
    return left;
}

int table(const Recording& r, const Stretch& stretch, const std::string& lane, size_t depth, bool json,
          std::ostream& out, std::ostream& err) {
    const auto made = tableOfStretch(r, stretch);
    Json list = Json::array();
    bool any = false;
    size_t left = 0;
    if (!json) out << "       total          self         count     longest  marker\n";
    for (const uint32_t row : made->lanes) {
        if (!lane.empty() && r.lanes[made->rows[row].lane].name != lane) continue;
        any = true;
        if (json)
            list.push_back(tableJson(r, *made, row));
        else
            left += printTable(r, *made, row, 0, depth, out);
    }
    if (json) out << Json{{"begin_ns", stretch.begin}, {"end_ns", stretch.end}, {"lanes", list}}.dump(1) << "\n";
    if (left)
        tellNote(err, plural(left, "row is", "rows are") + " left out with what lies in " +
                          (left == 1 ? "it" : "them") + ": nested deeper than " + std::to_string(depth) +
                          ". --depth shows more.");
    if (any) return kExitOk;
    return tellFailure(err, kExitNothingFound,
                       lane.empty() ? "There are no markers in this stretch."
                                    : "There is no lane named \"" + lane +
                                          "\" with markers in this stretch. `fugato-cli info` "
                                          "lists the lanes.");
}

int marker(const Recording& r, const Stretch& stretch, const std::string& name, size_t longest, bool json,
           std::ostream& out, std::ostream& err) {
    Json list = Json::array();
    for (uint32_t site = 0; site < r.sites.size(); ++site) {
        if (r.sites[site].name != name) continue;
        const auto s = statisticsOf(r, site, stretch, 0);
        const auto occurrences = longestOccurrences(r, site, stretch, longest);
        const bool frames = s->frames > 0;
        if (json) {
            Json one{{"name", name},           {"category", r.sites[site].category},
                     {"count", s->count},      {"total_ns", s->total},
                     {"self_ns", s->self},     {"shortest_ns", s->shortest},
                     {"middle_ns", s->middle}, {"p95_ns", s->p95},
                     {"p99_ns", s->p99},       {"longest_ns", s->longest}};
            if (frames) {
                one["frames"] = s->frames;
                one["frames_with_it"] = s->framesWithIt;
                one["calls_per_frame"] = s->callsPerFrame;
                one["ns_per_frame"] = s->nsPerFrame;
                if (s->worstFrame != kNone) one["worst_frame"] = s->worstFrame;
            }
            one["occurrences"] = Json::array();
            for (const Occurrence& o : *occurrences)
                one["occurrences"].push_back(
                    {{"lane", r.lanes[o.marker.lane].name}, {"begin_ns", o.begin}, {"duration_ns", o.duration}});
            list.push_back(one);
            continue;
        }
        out << name << (r.sites[site].category.empty() ? "" : " (" + r.sites[site].category + ")") << "\n";
        out << "  " << plural(s->count, "time", "times") << ", " << durationText(s->total) << " in all, "
            << durationText(s->self) << " of it itself\n";
        if (s->count)
            out << "  middle " << durationText(s->middle) << ", 95th percentile " << durationText(s->p95) << ", 99th "
                << durationText(s->p99) << ", longest " << durationText(s->longest) << ", shortest "
                << durationText(s->shortest) << "\n";
        if (s->framesWithIt) {
            out << "  in " << countText(s->framesWithIt) << " of " << plural(s->frames, "frame", "frames") << ", "
                << fixedText(s->callsPerFrame, 1) << " a frame, " << durationText(static_cast<int64_t>(s->nsPerFrame))
                << "; most in frame " << countText(s->worstFrame) << ", " << durationText(s->worstFrameNs) << "\n";
        }
        for (const Occurrence& o : *occurrences) {
            const PathId above = r.paths[r.pathOf(o.marker)].parent;
            out << std::right << std::setw(12) << durationText(o.duration) << "  at " << durationText(o.begin - r.begin)
                << " on " << r.lanes[o.marker.lane].name << (above ? ", in " + r.pathText(above) : "") << "\n";
        }
        list.push_back(name);
    }
    if (list.empty())
        return tellFailure(err, kExitNothingFound,
                           "There is no marker named \"" + name + "\". `fugato-cli find` looks for parts of names.");
    if (json) out << list.dump(1) << "\n";
    return kExitOk;
}

int find(const Recording& r, const std::string& words, bool json, std::ostream& out, std::ostream& err) {
    const auto found = search(r, words);
    Json markers = Json::array(), arguments = Json::array(), points = Json::array();
    for (const FoundMarker& m : found->markers)
        markers.push_back({{"name", r.sites[m.site].name},
                           {"category", r.sites[m.site].category},
                           {"count", m.count},
                           {"total_ns", m.total}});
    for (const FoundArgument& a : found->arguments) {
        const Argument& said = r.lanes[a.marker.lane].arguments[a.argument];
        arguments.push_back({{"key", r.keys[said.key]},
                             {"value", r.valueText(said)},
                             {"marker", r.nameOf(r.pathOf(a.marker))},
                             {"lane", r.lanes[a.marker.lane].name},
                             {"begin_ns", a.begin}});
    }
    for (const FoundPoint& p : found->points) {
        const Point& point = r.points[p.point];
        points.push_back(
            {{"text", std::string(r.text(point.text))}, {"lane", r.lanes[point.lane].name}, {"at_ns", point.time}});
    }
    if (json) {
        out << Json{{"markers", markers},
                    {"arguments", arguments},
                    {"points", points},
                    {"all_arguments", found->allArguments},
                    {"all_points", found->allPoints}}
                   .dump(1)
            << "\n";
    } else {
        const auto seconds = [](const Json& ns) { return durationText(ns.get<int64_t>()); };
        for (const Json& m : markers)
            out << "marker    " << m["name"].get<std::string>() << ": " << countText(m["count"].get<uint64_t>())
                << " times, " << seconds(m["total_ns"]) << "\n";
        for (const Json& a : arguments)
            out << "argument  " << a["key"].get<std::string>() << " = " << a["value"].get<std::string>() << " in "
                << a["marker"].get<std::string>() << " on " << a["lane"].get<std::string>() << ", at "
                << seconds(a["begin_ns"]) << "\n";
        for (const Json& p : points)
            out << "point     " << p["text"].get<std::string>() << " on " << p["lane"].get<std::string>() << ", at "
                << seconds(p["at_ns"]) << "\n";
        const uint64_t more = found->allArguments - found->arguments.size() + found->allPoints - found->points.size();
        if (more) out << "and " << countText(more) << " more: search for more letters\n";
    }
    if (markers.empty() && arguments.empty() && points.empty())
        return tellFailure(err, kExitNothingFound, "Nothing holds \"" + words + "\".");
    return kExitOk;
}

int advice(const std::shared_ptr<const Recording>& recording, const AdviceLimits& limits, bool json, std::ostream& out,
           std::ostream& err) {
    if (recording->series.empty() || recording->series[0].frames.empty())
        return tellFailure(err, kExitNothingFound,
                           "The recording holds no frames. Record some with fug_frame_begin and fug_frame_end.");
    const auto e = explain(recording, accountFrames(*recording, 0), 0);
    const auto found = adviceFor(*e, limits);
    Json list = Json::array();
    for (const Advice& a : *found) {
        if (json) {
            list.push_back({{"kind", adviceKindName(a.kind)},
                            {"certainty", certaintyName(a.certainty)},
                            {"title", a.title},
                            {"evidence", a.evidence},
                            {"next", a.next},
                            {"cost_ns", a.cost}});
            if (a.begin < a.end) {
                list.back()["lane"] = recording->lanes[a.lane].name;
                list.back()["begin_ns"] = a.begin;
                list.back()["end_ns"] = a.end;
            }
        } else {
            out << a.title << " (" << certaintyName(a.certainty) << ")\n  " << a.evidence << "\n  " << a.next << "\n";
        }
    }
    if (json)
        out << list.dump(1) << "\n";
    else if (found->empty())
        out << "Nothing found beyond what `fugato-cli explain` names.\n";
    return kExitOk;
}

}  // namespace

AskCommands::AskCommands(CLI::App& app)
    : table_(app.add_subcommand("table", "Everything nested in a stretch of time, by lane")),
      marker_(app.add_subcommand("marker", "How often and how long one marker runs, and its longest occurrences")),
      find_(app.add_subcommand("find", "Markers by name, occurrences by argument (key=value), points by their words")),
      advice_(app.add_subcommand("advice", "Findings beyond single spikes, and what to look at next")) {
    for (CLI::App* command : {table_, marker_, find_, advice_}) {
        command->add_option("FILE", file_, "recording (.fugato or .jsonl)")->required();
        command->add_flag("--json", json_, "as JSON");
    }
    marker_->add_option("NAME", words_, "the marker's whole name")->required();
    marker_->add_option("--longest", longest_, "so many of the longest occurrences")
        ->check(numberFrom(0, 1'000'000))
        ->capture_default_str();
    find_->add_option("WORDS", words_, "letters to look for")->required();
    table_->add_option("--lane", lane_, "only the lane of this name");
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
    for (CLI::App* command : {table_, marker_}) {
        command->add_option("--from", fromSeconds_, "seconds since the recording's begin")->check(numberFrom(0.0, 1e9));
        command->add_option("--to", toSeconds_, "seconds since the recording's begin")->check(numberFrom(0.0, 1e9));
    }
}

bool AskCommands::chosen() const {
    return table_->parsed() || marker_->parsed() || find_->parsed() || advice_->parsed();
}

int AskCommands::run(std::ostream& out, std::ostream& err) const {
    const auto opened = openForCommand(file_, err);
    if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
    const Recording& r = **opened;
    tellDamage(r, err);
    Stretch stretch = wholeOf(r);
    const auto at = [&](double seconds) { return r.begin + static_cast<int64_t>(seconds * 1e9); };
    if (fromSeconds_ > 0) stretch.begin = at(fromSeconds_);
    if (toSeconds_ >= 0) stretch.end = std::min(stretch.end, at(toSeconds_));
    if (stretch.begin >= stretch.end)
        return tellFailure(
            err, kExitWrongUse,
            "--from must lie before --to and before the recording's end at " + durationText(r.end - r.begin) + ".");
    if (advice_->parsed()) {
        AdviceLimits limits = limits_;
        limits.slowFile = static_cast<int64_t>(slowFileMs_ * 1e6);
        return advice(*opened, limits, json_, out, err);
    }
    if (table_->parsed()) return table(r, stretch, lane_, depth_, json_, out, err);
    if (marker_->parsed()) return marker(r, stretch, words_, longest_, json_, out, err);
    return find(r, words_, json_, out, err);
}

}  // namespace fugato
