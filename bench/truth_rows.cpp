// SPDX-License-Identifier: GPL-3.0-or-later
#include <array>
#include <cmath>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

#include "core/explain/simulation/what_if.h"
#include "core/model/open_recording.h"
#include "rows.h"
#include "testing/engines/verdicts.h"

namespace measure {

constexpr const char* kDemoTroubles[] = {"autosave", "gust", "rounding", "gulls", "spray", "log", "table"};

namespace {

constexpr uint64_t kFirstSeed = 20'001;  // not those the rules were tried on

std::string part(int of, int all) { return std::to_string(of) + " of " + std::to_string(all); }
Row row(const std::string& what, int of, int all, const std::string& goal, double least) {
    return {what, part(of, all), goal, all > 0 && of >= least * all};
}
struct Count {
    int good = 0, all = 0;
    double part() const { return all ? static_cast<double>(good) / all : 1; }
};
/// What one kind of trouble came to.
struct OfKind {
    Count first, both;             // named first where it is alone; among the first two beside another
    int predicted = 0, saved = 0;  // frames, in what-if and when run again
    double off() const { return saved ? std::abs(predicted - saved) / static_cast<double>(saved) : 0; }
};

/// Random engines with one trouble each, with none, and with two.
/// Engines with no trouble, one, or two, as they were explained, and what was predicted of them.
class EngineTruth {
public:
    void sail() {
        for (int s = 0; s < engines::kShapes; ++s) {
            for (uint64_t seed = kFirstSeed; seed < kFirstSeed + 16; ++seed)
                sailClean(static_cast<engines::Shape>(s), seed);
            for (int t = 0; t < engines::kTroubles; ++t)
                for (uint64_t seed = kFirstSeed; seed < kFirstSeed + 12; ++seed)
                    if (applies(static_cast<engines::Trouble>(t), static_cast<engines::Shape>(s)))
                        sailTroubled(static_cast<engines::Shape>(s), static_cast<engines::Trouble>(t), seed);
        }
    }

    void addRows(std::vector<Row>& rows) const {
        OfKind all;
        for (const auto& [name, kind] : byTrouble_) {
            for (auto [to, from] : {std::pair(&all.first, &kind.first), std::pair(&all.both, &kind.both)}) {
                to->good += from->good;
                to->all += from->all;
            }
            all.predicted += kind.predicted;
            all.saved += kind.saved;
        }
        rows.push_back(
            row("truth: engines with one trouble, named first", all.first.good, all.first.all, "99 %", 0.99));
        rows.push_back(row("… their late frames, each laid mostly to it", late_.good, late_.all, "99 %", 0.99));
        rows.push_back(row("… with links or core switches not recorded, where these do not tell of it", less_.good,
                           less_.all, "99 %", 0.99));
        rows.push_back(row("… with call stacks in place of markers", stacks_.good, stacks_.all, "99 %", 0.99));
        rows.push_back({"… with neither links nor core switches, though links told of it",
                        part(guessed_.good, guessed_.all),
                        "",
                        {}});
        rows.push_back(row("… with wake-ups in place of links", woken_.good, woken_.all, "99 %", 0.99));
        rows.push_back(row("truth: engines with two troubles, both among the first two", all.both.good, all.both.all,
                           "95 %", 0.95));
        rows.push_back({"what-if: frames predicted to be saved ÷ saved when an engine ran again",
                        std::to_string(all.predicted) + " ÷ " + std::to_string(all.saved), "within 5 %",
                        all.off() <= 0.05});
        for (const auto& [name, kind] : byTrouble_)
            rows.push_back({"… " + name + ": named alone; both of two; what-if",
                            part(kind.first.good, kind.first.all) + "; " + part(kind.both.good, kind.both.all) + "; " +
                                std::to_string(kind.predicted) + " ÷ " + std::to_string(kind.saved),
                            "99 %, 95 %, within 5 %",
                            kind.first.part() >= 0.99 && kind.both.part() >= 0.95 && kind.off() <= 0.05});
        rows.push_back(row("truth: clean engines without a cause", clean_.good, clean_.all, "all", 1));
        rows.push_back(
            row("whole: engines' frames whose excess is shared out exactly", exact_.good, exact_.all, "all", 1));
    }

private:
    void check(const fugato::Explanation& e) {
        for (uint32_t f = 0; f < e.frames.size(); ++f) {
            int64_t sum = 0;
            for (const auto& part : e.excessOf(f)) sum += part.excess();
            exact_.good += sum == e.frame(f).duration() - e.usualOf(f);
            ++exact_.all;
        }
    }

    void sailClean(engines::Shape shape, uint64_t seed) {
        engines::Settings settings;
        settings.shape = shape;
        settings.seed = seed;
        settings.noise = engines::noiseOf(seed);
        clean_.good += explainedRun(settings).explanation->causes.empty();
        ++clean_.all;
    }

    void sailTroubled(engines::Shape shape, engines::Trouble trouble, uint64_t seed) {
        engines::Settings settings;
        settings.shape = shape;
        settings.seed = seed * 31 + static_cast<uint64_t>(trouble);
        settings.noise = engines::noiseOf(settings.seed);
        settings.troubles = {trouble};
        const engines::Explained run = explainedRun(settings);
        const fugato::Explanation& e = *run.explanation;
        check(e);
        const uint32_t found = causeOf(e, run.expected[0]);
        OfKind& kind = byTrouble_[troubleName(trouble)];
        kind.first.good += found == 0;
        ++kind.first.all;
        for (uint32_t f = 0; f < e.frames.size(); ++f) {
            if (!e.frames[f].overrun) continue;
            late_.good += e.sharesOf(f).front().cause == found;
            ++late_.all;
        }
        sailWithLess(settings);
        sailWithAnother(settings, seed, kind);
    }

    /// The same with less recorded, where that does not hide it.
    void sailWithLess(engines::Settings settings) {
        if (stacksTell(settings.troubles[0])) {
            engines::Settings alone = settings;
            alone.noise.stacksAlone = true;
            firstNamed(alone, stacks_);
        }
        for (const bool links : {false, true}) {
            if (links ? needsSwitches(settings.troubles[0]) : needsLinks(settings.troubles[0], settings.shape))
                continue;
            settings.noise.links = links;
            settings.noise.switches = !links;
            settings.noise.wakeUps = false;
            firstNamed(settings, less_);
        }
        if (needsLinks(settings.troubles[0], settings.shape)) {
            settings.noise.links = settings.noise.switches = settings.noise.wakeUps = false;
            firstNamed(settings, guessed_);
        }
        if (!wakeUpsTell(settings.troubles[0])) return;
        settings.noise.links = false;
        settings.noise.switches = settings.noise.wakeUps = true;
        firstNamed(settings, woken_);
    }

    void firstNamed(const engines::Settings& settings, Count& count) {
        const engines::Explained told = explainedRun(settings);
        check(*told.explanation);
        count.good += causeOf(*told.explanation, told.expected[0]) == 0;
        ++count.all;
    }

    /// Another trouble that stays, in the same frames or in others; then the first is repaired.
    void sailWithAnother(engines::Settings settings, uint64_t seed, OfKind& kind) {
        const engines::Trouble trouble = settings.troubles[0];
        const int first = static_cast<int>(trouble);
        int other = static_cast<int>((static_cast<uint64_t>(first) + 1 + seed) % engines::kTroubles);
        while (other == first || !applies(static_cast<engines::Trouble>(other), settings.shape))
            other = (other + 1) % engines::kTroubles;
        settings.troubles.push_back(static_cast<engines::Trouble>(other));
        settings.together = seed % 2;
        const engines::Explained two = explainedRun(settings);
        const uint32_t cause = causeOf(*two.explanation, two.expected[0]);
        if (two.expected[0].series == two.expected[1].series) {
            kind.both.good += std::max(cause, causeOf(*two.explanation, two.expected[1])) < 2;
            ++kind.both.all;
        }
        if (cause == fugato::kNone) return;
        kind.predicted += static_cast<int>(predict(*two.explanation, {{cause, false}})->saved);
        const auto after = explainedRun(settings, {trouble}).explanation;
        for (uint32_t f = 0; f < std::min(after->frames.size(), two.explanation->frames.size()); ++f)
            kind.saved += two.explanation->frames[f].overrun && !after->frames[f].overrun;
    }

    std::map<std::string, OfKind> byTrouble_;
    Count late_, clean_, exact_, less_, woken_, guessed_, stacks_;
};

void engineRows(std::vector<Row>& rows) {
    EngineTruth truth;
    truth.sail();
    truth.addRows(rows);
}

/// The demo with each pair of troubles; then one of them is switched off.
void demoWhatIf(std::vector<Row>& rows) {
    int predicted = 0, real = 0;
    const auto& all = kDemoTroubles;
    for (size_t i = 0; i < std::size(all); ++i) {
        const std::string other = all[(i + 3) % std::size(all)];
        const std::string before = scratchFile("before.fugato"), after = scratchFile("after.fugato"),
                          truthFile = scratchFile("truth.json");
        const auto sailed = [&](const std::string& troubles, const std::string& out) {
            return sail({"--virtual", "--seed", "301", "--seconds", "60", "--troubles", troubles, "--overwrite",
                         "--out", out, "--truth", truthFile});
        };
        if (!sailed(other, after) || !sailed(std::string(all[i]) + "," + other, before)) continue;
        const auto a = fugato::openRecording(after), b = fugato::openRecording(before);
        if (!a || !b) continue;
        const auto ea = fugato::explain(*a, fugato::sumCriticalPaths(**a, 0), 0),
                   eb = fugato::explain(*b, fugato::sumCriticalPaths(**b, 0), 0);
        nlohmann::json truth;
        std::ifstream(truthFile) >> truth;
        for (const auto& planted : truth["causes"]) {
            if (planted["trouble"] != all[i]) continue;
            for (uint32_t c = 0; c < eb->causes.size(); ++c) {
                if ((*b)->namesOf(eb->causes[c].path) != planted["path"].get<std::vector<std::string>>()) continue;
                predicted += static_cast<int>(predict(*eb, {{c, false}})->saved);
                // By number: with a frame less late before it, the autosave meets another frame.
                real += static_cast<int>(eb->figures.over) - static_cast<int>(ea->figures.over);
                break;
            }
        }
    }
    rows.push_back({"what-if: frames predicted to be saved ÷ saved when the demo ran again",
                    std::to_string(predicted) + " ÷ " + std::to_string(real), "within 5 %",
                    real > 0 && std::abs(predicted - real) <= 0.05 * real});
}

}  // namespace

std::vector<Row> truthRows() {
    int named = 0, runs = 0, clean = 0, cleanRuns = 0, whole = 0, frames = 0;
    std::vector<const char*> troubles(std::begin(kDemoTroubles), std::end(kDemoTroubles));
    troubles.push_back("none");
    for (const char* trouble : troubles) {
        for (int seed = 101; seed <= 104; ++seed) {
            const std::string file = scratchFile("truth.fugato"), truthFile = scratchFile("truth.json");
            if (!sail({"--virtual", "--seed", std::to_string(seed), "--seconds", "30", "--troubles", trouble,
                       "--overwrite", "--out", file, "--truth", truthFile}))
                continue;
            const auto opened = fugato::openRecording(file);
            if (!opened) continue;
            const auto e = fugato::explain(*opened, fugato::sumCriticalPaths(**opened, 0), 0);
            for (uint32_t i = 0; i < e->frames.size(); ++i) {
                int64_t sum = 0;
                for (const auto& part : e->excessOf(i)) sum += part.excess();
                whole += sum == e->frame(i).duration() - e->usualOf(i);
                ++frames;
            }
            nlohmann::json truth;
            std::ifstream(truthFile) >> truth;
            if (truth["causes"].empty()) {
                ++cleanRuns;
                clean += e->causes.empty();
                continue;
            }
            ++runs;
            const auto& planted = truth["causes"][0];
            named += !e->causes.empty() &&
                     (*opened)->namesOf(e->causes[0].path) == planted["path"].get<std::vector<std::string>>() &&
                     (*opened)->groups[e->causes[0].group].name == planted["lane"].get<std::string>() &&
                     fugato::causeKindName(e->causes[0].kind) == planted["kind"].get<std::string>();
        }
    }
    std::vector<Row> rows{
        {"truth: the demo's troubles named first, each alone, over seeds",
         std::to_string(named) + " of " + std::to_string(runs), "99 %", named * 100 >= runs * 99 && runs > 0},
        {"truth: clean runs without a cause", std::to_string(clean) + " of " + std::to_string(cleanRuns), "all",
         clean == cleanRuns && cleanRuns > 0},
        {"whole: frames whose excess is shared out exactly", std::to_string(whole) + " of " + std::to_string(frames),
         "all", whole == frames && frames > 0}};
    demoWhatIf(rows);
    engineRows(rows);
    return rows;
}

}  // namespace measure
