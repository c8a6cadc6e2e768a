// SPDX-License-Identifier: GPL-3.0-or-later
#include "commands.h"

#include <CLI/CLI.hpp>
#include <iomanip>
#include <nlohmann/json.hpp>

#include "ask_commands.h"
#include "command_parts.h"
#include "connect_command.h"
#include "core/explain/causes/earlier_stage.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/frame_sentences.h"
#include "core/summary/summary.h"
#include "format/log.h"
#include "format/merging.h"
#include "format/number_text.h"
#include "join_commands.h"
#include "record_command.h"
#include "summary_json.h"

namespace fugato {

namespace {

using Json = nlohmann::ordered_json;

class InfoCommand {
public:
    explicit InfoCommand(CLI::App& app) : command_(app.add_subcommand("info", "What a recording holds")) {
        command_->add_option("FILE", file_, "recording (.fugato or .jsonl)")->required();
    }
    bool chosen() const { return command_->parsed(); }

    int run(std::ostream& out, std::ostream& err) const {
        auto opened = openForCommand(file_, err);  // first: it may complete the file of a killed program
        if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
        auto source = openFile(file_);
        if (!source) return tellFailure(err, kExitUnreadable, source.failure().sentence);
        const FileFacts facts = lookAtFile(**source);
        const Recording& r = **opened;
        const auto field = [&](const std::string& name, const std::string& value) {
            out << std::left << std::setw(13) << name << " " << value << "\n";
        };
        field("form", facts.binary ? "binary, " + countText(facts.blocks) + " blocks, " +
                                         (facts.indexed ? "indexed" : "not closed")
                                   : "text");
        field("size", countText(facts.bytes) + " bytes");
        for (const auto& [key, value] : r.context)
            if (!value.empty()) field(key, value);
        field("length", durationText(r.end - r.begin));
        const size_t markers = r.markerCount();
        field("markers", countText(markers));
        if (markers) {
            field("per marker",
                  fixedText(static_cast<double>(facts.bytes) / static_cast<double>(markers), 2) + " bytes");
        }
        field("names", countText(r.sites.size()));
        field("points", countText(r.points.size()));
        for (const Series& series : r.series) {
            if (series.frames.empty()) continue;
            const int64_t deadline = series.frames.front().deadline;
            field("series", series.name + ": " + plural(series.frames.size(), "frame", "frames") + ", deadline " +
                                (deadline ? msText(deadline, 2) + " ms" : "not recorded"));
        }
        for (const Counter& counter : r.counters)
            field("counter", counter.name + ": " + plural(counter.values.size(), "value", "values") +
                                 (counter.unit.empty() ? "" : " in " + counter.unit));
        for (const State& state : r.states)
            field("state", state.name + ": " + plural(state.spans.size(), "change", "changes"));
        for (uint32_t i = 0; i < r.pools.size(); ++i) {
            uint64_t kept = 0, bytes = 0;
            for (const Allocation& allocation : r.allocations)
                if (allocation.pool == i && !allocation.isReleased()) {
                    ++kept;
                    bytes += allocation.bytes;
                }
            field("memory", r.pools[i].name + ": " + plural(r.pools[i].times.size(), "change", "changes") +
                                (kept ? "; never released: " + plural(kept, "piece", "pieces") + " of " +
                                            countText(bytes) + " bytes in all"
                                      : ""));
        }
        if (!r.operations.empty()) field("operations", countText(r.operations.size()));
        if (!r.pictures.empty()) field("pictures", countText(r.pictures.size()));
        if (r.stackCount())
            field("stacks", countText(r.samples.size()) + " of running, " + countText(r.stops.size()) +
                                " where threads blocked, " + plural(r.modules.size(), "module", "modules"));
        if (!r.series.empty() && !r.series[0].frames.empty()) tellMeasuring(r, field);
        for (const Lane& lane : r.lanes)
            field("lane", lane.name + ": " + std::string(wordOf(lane.kind)) + ", " +
                              plural(lane.markerCount(), "marker", "markers") + ", depth " +
                              std::to_string(lane.rows.size()));
        tellDamage(r, err);
        return kExitOk;
    }

private:
    template <class Field>
    static void tellMeasuring(const Recording& r, Field&& field) {
        const Measuring measuring = measuringOf(r, 0);
        if (measuring.markerCostNs > 0)
            field("measuring", fixedText(measuring.share * 100, 2) + " % of the " + r.series[0].name +
                                   " frames, at most " + fixedText(measuring.worstShare * 100, 2) + " % of one");
        for (const FrequentMarker& marker : measuring.most)
            field("entered most", r.sites[marker.site].name + ": " + countText(marker.count) + " times, " +
                                      fixedText(marker.perFrame, 1) + " a frame");
        if (const std::string advice = measuringAdvice(r, measuring); !advice.empty()) field("advice", advice);
    }
    CLI::App* command_;
    std::string file_;
};

class ExplainCommand {
public:
    explicit ExplainCommand(CLI::App& app)
        : command_(app.add_subcommand("explain", "Which frames were late, and what made them so")) {
        command_->add_option("FILE", file_, "recording (.fugato or .jsonl)")->required();
        command_->add_option("--series", series_, "frame series, counted from 0; without it, all of them")
            ->check(numberFrom(0, 1'000'000'000));
        command_->add_option("--budget", budgetMs_, "milliseconds for every frame, instead of the recorded deadlines")
            ->check(numberFrom(0.000001, 1e9));
        command_
            ->add_option("--repair", repairs_, "what if: letters of causes that take their usual time; A=gone: none")
            ->delimiter(',');
        command_->add_flag("--json", json_, "the whole explanation as JSON");
        command_->add_option("--from", fromSeconds_, "only frames that begin from so many seconds after the begin on")
            ->check(numberFrom(0.0, 1e9));
        command_->add_option("--to", toSeconds_, "only frames that begin before so many seconds after the begin")
            ->check(numberFrom(0.0, 1e9));
        command_->add_option("--stage", stage_, "only frames in the stage of this name");
    }
    bool chosen() const { return command_->parsed(); }

    int run(std::ostream& out, std::ostream& err) const {
        auto opened = openForCommand(file_, err);
        if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
        const auto& recording = *opened;
        tellDamage(*recording, err);
        std::vector<uint32_t> chosen;
        for (uint32_t i = 0; i < recording->series.size(); ++i)
            if (!recording->series[i].frames.empty() && (series_ < 0 || static_cast<uint32_t>(series_) == i))
                chosen.push_back(i);
        if (chosen.empty()) {
            return tellFailure(
                err, kExitNothingFound,
                file_ + (series_ < 0 ? " holds no frames. Record some with fug_frame_begin and fug_frame_end."
                                     : " has no frames in series " + std::to_string(series_) +
                                           ". `fugato-cli info` lists the series."));
        }
        const auto scope = scopeIn(*recording, err);
        if (!scope) return kExitWrongUse;
        const ExplainOptions options(static_cast<int64_t>(budgetMs_ * 1e6), symbolsForCommand(*recording, err), *scope);
        std::vector<std::shared_ptr<const Explanation>> explained;
        for (const uint32_t series : chosen)
            explained.push_back(explain(recording, sumCriticalPaths(*recording, series), options));
        Json json = json_ ? summaryJson(*summaryOf(explained, {kPredicted, kMarkers})) : Json();
        if (json_ && !scope->whole()) json["scope"] = scopeJson(*recording, *scope);
        for (const auto& e : explained) {
            std::vector<Repair> repairs;
            for (const std::string& wanted : repairs_)
                if (!addRepair(*e, wanted, repairs))
                    return tellFailure(err, kExitNothingFound,
                                       "there is no cause \"" + wanted + "\" in series \"" +
                                           recording->series[e->series].name +
                                           "\". Name causes by their letters: A, or A=gone.");
            const auto prediction = repairs.empty() ? nullptr : predict(*e, repairs);
            if (json_) {
                addSpikes(*e, json["spikes"]);
                if (prediction) addJson(*e, *prediction, json);
            } else {
                print(*e, out);
                if (prediction) out << "What if: " << whatIfSentence(*e, *prediction) << "\n\n";
            }
        }
        if (json_) out << json.dump(1) << "\n";
        return kExitOk;
    }

private:
    /// Of so many of the costliest causes it is also told what their repair would bring.
    static constexpr uint32_t kPredicted = 10;
    static constexpr size_t kMarkers = 200;  // told as JSON

    static Json scopeJson(const Recording& r, const ExplainScope& scope) {
        Json json{{"begin_ns", std::max(scope.begin, r.begin)}, {"end_ns", std::min(scope.end, r.end)}};
        if (!scope.stage.empty()) json["stage"] = scope.stage;
        return json;
    }

    /// Nothing after saying why there is no such range or stage.
    std::optional<ExplainScope> scopeIn(const Recording& r, std::ostream& err) const {
        ExplainScope scope;
        const auto at = [&](double seconds) { return r.begin + static_cast<int64_t>(seconds * 1e9); };
        if (fromSeconds_ > 0) scope.begin = at(fromSeconds_);
        if (toSeconds_ >= 0) scope.end = at(toSeconds_);
        scope.stage = stage_;
        if (scope.begin >= std::min(scope.end, r.end)) {
            tellFailure(err, kExitWrongUse, rangeProblem(r));
            return std::nullopt;
        }
        std::string known;
        bool isKnown = stage_.empty();
        for (const std::string& name : r.stageNames()) {
            known += (known.empty() ? "" : ", ") + name;
            isKnown = isKnown || name == stage_;
        }
        if (isKnown) return scope;
        tellFailure(
            err, kExitWrongUse,
            "there is no stage \"" + stage_ + "\"; " +
                (known.empty() ? "the recording tells none (the state named \"stage\")" : "there are " + known) + ".");
        return std::nullopt;
    }

    static bool addRepair(const Explanation& e, const std::string& wanted, std::vector<Repair>& repairs) {
        const size_t equals = wanted.find('=');
        const bool gone = equals != std::string::npos;
        if (gone && wanted.substr(equals) != "=gone") return false;
        for (uint32_t c = 0; c < e.causes.size(); ++c)
            if (e.causes[c].letter == wanted.substr(0, equals)) {
                repairs.push_back({c, gone});
                return true;
            }
        return false;
    }

    static void addJson(const Explanation& e, const Prediction& p, Json& json) {
        Json repairs = Json::array();
        for (const Repair& repair : p.repairs)
            repairs.push_back({{"cause", e.causes[repair.cause].letter}, {"gone", repair.gone}});
        Json frames = Json::array();
        for (uint32_t f = 0; f < e.frames.size(); ++f)
            if (p.duration[f] != e.frame(f).duration())
                frames.push_back({{"index", f}, {"duration_ns", p.duration[f]}, {"overrun_ns", p.overrun[f]}});
        json["what_if"].push_back({{"series", e.recording->series[e.series].name},
                                   {"repairs", std::move(repairs)},
                                   {"over", p.over},
                                   {"saved", p.saved},
                                   {"late_ms", milliseconds(p.late)},
                                   {"next_cause", p.nextCause == kNone ? Json() : Json(e.causes[p.nextCause].letter)},
                                   {"frames", std::move(frames)}});
    }

    static void addSpikes(const Explanation& e, Json& spikes) {
        const Recording& r = *e.recording;
        const std::string& name = r.series[e.series].name;
        for (const Spike& spike : e.spikes) {
            Json frames = Json::array();
            for (uint32_t i = spike.first; i <= spike.last; ++i) {
                Json parts = Json::array();
                for (const ExcessPart& part : e.excessOf(i))
                    parts.push_back({{"lane", r.groups[part.key.group].name},
                                     {"path", r.namesOf(part.key.path)},
                                     {"piece", segmentName(part.key.kind)},
                                     {"excess_ns", part.excess()}});
                Json through = Json::array();
                for (const EarlierStage& stage : earlierStages(e, i, e.segmentsOf(i)))
                    through.push_back({{"series", r.series[stage.series].name},
                                       {"frame", stage.frame},
                                       {"overrun_ns", stage.overrun},
                                       {"likely", stage.likely}});
                frames.push_back({{"index", i},
                                  {"begin_ns", e.frame(i).begin},
                                  {"duration_ns", e.frame(i).duration()},
                                  {"deadline_ns", e.frames[i].deadline},
                                  {"usual_ns", e.usualOf(i)},
                                  {"measuring_ns", measuringInFrame(r, e.frame(i), e.pathSums->measuring.markerCostNs)},
                                  {"through", std::move(through)},
                                  {"parts", std::move(parts)}});
            }
            spikes.push_back({{"series", name},
                              {"first_frame", spike.first},
                              {"last_frame", spike.last},
                              {"origin_frame", spike.origin},
                              {"late_ms", milliseconds(spike.late)},
                              {"cause", e.causes[spike.cause].letter},
                              {"frames", std::move(frames)}});
        }
    }

    static void print(const Explanation& e, std::ostream& out) {
        const Recording& r = *e.recording;
        out << "Series \"" << r.series[e.series].name << "\"" << (e.scope.whole() ? "" : ", " + scopeText(e)) << ": "
            << verdictSentence(e) << ".\n";
        const Figures& f = e.figures;
        out << "  frames: median " << durationText(f.p50) << ", 95th percentile " << durationText(f.p95) << ", 99th "
            << durationText(f.p99) << ", worst " << durationText(f.worst) << "\n";
        for (uint32_t c = 0; c < e.listed; ++c) {
            const Cause& cause = e.causes[c];
            out << "\n"
                << std::right << std::setw(3) << cause.letter << "  " << causeTitle(e, cause) << "  ("
                << causeKindPhrase(e, cause) << ")\n"
                << "     " << durationText(cause.late) << " late, " << plural(cause.frames.size(), "frame", "frames")
                << " in " << plural(cause.spikes.size(), "spike", "spikes") << "."
                << (c < kPredicted ? " " + whatIfSentence(e, *predict(e, {{c, false}})) : "") << "\n";
            const uint32_t worst = e.worstFrameOf(cause);
            out << "     Frame " << countText(worst) << " took " << durationText(e.frame(worst).duration())
                << (e.frames.size() == 1 ? "" : ", usually " + durationText(e.usualDuration(worst))) << ":\n";
            for (const Sentence& sentence : frameSentences(e, worst)) out << "       " << sentence.text << "\n";
        }
        if (e.listed < e.causes.size()) out << "\n     " << smallerCausesText(e) << "\n";
        out << "\n";
    }

    CLI::App* command_;
    std::string file_;
    int series_ = -1;
    double budgetMs_ = 0, fromSeconds_ = 0, toSeconds_ = -1;
    std::string stage_;
    std::vector<std::string> repairs_;
    bool json_ = false;
};

class ConvertCommand {
public:
    explicit ConvertCommand(CLI::App& app)
        : command_(app.add_subcommand("convert", "Writes a recording in the other form; the extensions tell which")) {
        command_->add_option("FROM", from_, "recording to read")->required();
        command_->add_option("TO", to_, "recording to write (.fugato or .jsonl)")->required();
    }
    bool chosen() const { return command_->parsed(); }

    int run(std::ostream&, std::ostream& err) const {
        EventStore store;
        const auto damage = [&] {
            const ProgressLine line("Reading", err);
            return readRecordingFile(from_, store, std::ref(line));
        }();
        if (!damage) return tellFailure(err, kExitUnreadable, damage.failure().sentence);
        for (const std::string& note : damage->notes) tellNote(err, note);
        const ProgressLine line("Writing", err);
        if (const auto written = writeRecordingFile(to_, store, std::ref(line)); !written)
            return tellFailure(err, kExitNotWritten, written.failure().sentence);
        return kExitOk;
    }

private:
    CLI::App* command_;
    std::string from_, to_;
};

class PackCommand {
public:
    explicit PackCommand(CLI::App& app)
        : command_(app.add_subcommand("pack", "Makes a .fugato recording smaller; nothing in it is lost")) {
        command_->add_option("FILE", file_, "recording to pack")->required();
        command_->add_option("--out", out_, "where to write it; without it, in place");
    }
    bool chosen() const { return command_->parsed(); }

    int run(std::ostream& out, std::ostream& err) const {
        auto source = openFile(file_);
        if (!source) return tellFailure(err, kExitUnreadable, source.failure().sentence);
        if (const std::string note = makeRecordingWhole(file_); !note.empty()) tellNote(err, note);
        const uint64_t before = (*source)->size();
        ProgressLine line("Packing", err);
        const auto packed = packRecordingFile(file_, out_.empty() ? file_ : out_, std::ref(line));
        if (!packed)
            return tellFailure(err, packed.failure().output ? kExitNotWritten : kExitUnreadable,
                               packed.failure().sentence);
        out << countText(before) << " bytes became " << countText(*packed) << " ("
            << (before ? *packed * 100 / before : 100) << " %)\n";
        return kExitOk;
    }

private:
    CLI::App* command_;
    std::string file_, out_;
};

class MergeCommand {
public:
    explicit MergeCommand(CLI::App& app)
        : command_(
              app.add_subcommand("merge", "Makes one recording of several programs that ran here at the same time")) {
        command_->add_option("FILES", files_, "a recording of each program; the first keeps its names")
            ->required()
            ->expected(-2);  // at least two
        command_->add_option("--out", out_, "recording to write (.fugato or .jsonl)")->required();
    }
    bool chosen() const { return command_->parsed(); }

    int run(std::ostream&, std::ostream& err) const {
        const ProgressLine line("Merging", err);
        const auto merged = mergeRecordingFiles(files_, out_, std::ref(line));
        if (!merged)
            return tellFailure(err, merged.failure().output ? kExitNotWritten : kExitUnreadable,
                               merged.failure().sentence);
        for (const std::string& note : *merged) tellNote(err, note);
        return kExitOk;
    }

private:
    CLI::App* command_;
    std::vector<std::string> files_;
    std::string out_;
};

}  // namespace

namespace {

int runCommand(int argc, const char* const* argv, std::ostream& out, std::ostream& err) {
    CLI::App app("Finds the late frames of a recording and names what made them late.", "fugato-cli");
    app.set_version_flag("--version", std::string("fugato-cli ") + FUGATO_VERSION);
    app.require_subcommand(1);
    app.fallthrough();  // may also stand behind the command
    std::string logLevel;
    app.add_option("--log-level", logLevel,
                   "writes on the error output what is otherwise kept quiet: debug, info, warning, error, off")
        ->check([](const std::string& word) {
            return setLogLevel(word) ? std::string() : "there is no level \"" + word + "\"";
        });
    RecordCommand record(app);
    JoinCommands join(app);
    ConnectCommand connect(app);
    InfoCommand info(app);
    ExplainCommand explainCommand(app);
    ConvertCommand convert(app);
    PackCommand pack(app);
    MergeCommand merge(app);
    AskCommands ask(app);
    const auto wrong = [&](const std::string& what) {
        return tellFailure(err, kExitWrongUse, what + ". See `fugato-cli --help`.");
    };
    const std::string first = argc > 1 ? argv[1] : "";
    std::string known;
    bool isKnown = false;
    for (const CLI::App* command : app.get_subcommands({})) {
        known += (known.empty() ? "" : ", ") + command->get_name();
        isKnown = isKnown || command->get_name() == first;
    }
    if (!first.empty() && first[0] != '-' && !isKnown) {
        return wrong("there is no command \"" + first + "\"; there are " + known);
    }
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        if (error.get_exit_code() == static_cast<int>(CLI::ExitCodes::Success)) return app.exit(error, out, err);
        return wrong(first.empty() ? "a command is missing" : error.what());
    }
    if (record.chosen()) return record.run(out, err);
    if (join.chosen()) return join.run(out, err);
    if (connect.chosen()) return connect.run(out, err);
    if (info.chosen()) return info.run(out, err);
    if (explainCommand.chosen()) return explainCommand.run(out, err);
    if (pack.chosen()) return pack.run(out, err);
    if (merge.chosen()) return merge.run(out, err);
    if (ask.chosen()) return ask.run(out, err);
    return convert.run(out, err);
}

}  // namespace

int runCli(int argc, const char* const* argv, std::ostream& out, std::ostream& err) {
    int code = kExitUnreadable;
    try {
        code = runCommand(argc, argv, out, err);
    } catch (const std::bad_alloc&) {
        return tellFailure(err, kExitNoMemory,
                           "There is not enough memory for this. Close other programs and try again.");
    } catch (const std::exception& error) {
        return tellFailure(err, kExitNoMemory, std::string("This could not be done: ") + error.what() + ".");
    }
    if (!out.flush())
        return tellFailure(err, kExitNotWritten,
                           "The output could not be written: it was closed, or its disk is full.");
    return code;
}

}  // namespace fugato
