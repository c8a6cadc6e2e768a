// SPDX-License-Identifier: GPL-3.0-or-later
//
// skerry: sails the race once and records it.
#include <CLI/CLI.hpp>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <nlohmann/json.hpp>

#include "regatta.h"
#include "scale.h"

namespace {

std::string troubleNames() {
    std::string names;
    for (const auto& trouble : skerry::allTroubles()) names += std::string(names.empty() ? "" : ", ") + trouble.name;
    return names;
}

bool chooseTroubles(const std::string& list, std::set<std::string>& chosen) {
    if (list == "none") return true;
    std::stringstream names(list);
    for (std::string name; std::getline(names, name, ',');) {
        bool known = false;
        for (const auto& trouble : skerry::allTroubles()) {
            if (name != "all" && name != trouble.name) continue;
            chosen.insert(trouble.name);
            known = true;
        }
        if (known) continue;
        std::fprintf(stderr, "skerry: there is no trouble named \"%s\". Known are: %s; or all, or none.\n",
                     name.c_str(), troubleNames().c_str());
        return false;
    }
    return true;
}

bool writeTruth(const std::string& path, const skerry::Settings& settings,
                const std::vector<skerry::Planted>& planted) {
    nlohmann::ordered_json truth{{"series", "race"},
                                 {"seconds", settings.seconds},
                                 {"seed", settings.seed},
                                 {"causes", nlohmann::ordered_json::array()}};
    for (size_t i = 0; i < planted.size(); ++i) {
        const skerry::Trouble& trouble = skerry::allTroubles()[i];
        if (!settings.troubles.count(trouble.name)) continue;
        truth["causes"].push_back({{"trouble", trouble.name},
                                   {"summary", trouble.summary},
                                   {"lane", trouble.lane},
                                   {"path", trouble.path},
                                   {"kind", trouble.kind},
                                   {"frames", planted[i].frames}});
    }
    std::ofstream file(path);
    file << truth.dump(1) << "\n";
    return static_cast<bool>(file.flush());
}

/// What was asked for on the command line.
struct Asked {
    std::string out, truth, troubles = "all", system = "all";
    bool offered = false, overwrite = false, virtualClock = false, paced = false, scaleSystem = false;
    uint64_t scale = 0;
    skerry::Settings settings;
};

void declareOptions(CLI::App& app, Asked& asked) {
    app.add_option("--out", asked.out, "recording to write (.fugato)");
    app.add_flag("--offer", asked.offered, "record nothing until it is joined");
    app.add_flag("--overwrite", asked.overwrite, "replace a recording that is there already");
    app.add_option("--seconds", asked.settings.seconds, "length of the race")
        ->check(CLI::Range(0.1, 36000.0))
        ->capture_default_str();
    app.add_option("--troubles", asked.troubles, "comma-separated names, all, or none")->capture_default_str();
    app.add_flag("--virtual", asked.virtualClock,
                 "a virtual clock: the same recording for the same seed, as fast as it goes");
    app.add_flag("--paced", asked.paced,
                 "with --virtual: no faster than in real time; the same events, whatever else runs");
    app.add_option("--seed", asked.settings.seed, "of the virtual clock's noise and the race")->capture_default_str();
    app.add_option("--detail", asked.settings.detail,
                   "0: coarse markers only; 1: fine ones too (the default in real time)")
        ->check(CLI::Range(0, 1));
    app.add_option(
           "--system", asked.system,
           "what to ask the operating system (with --virtual: what its clock tells in its place): all, stacks (its own "
           "call stacks only), or none")
        ->check(CLI::IsMember({"all", "stacks", "none"}))
        ->capture_default_str();
    app.add_option("--truth", asked.truth, "where to list the planted causes (JSON); needs --virtual");
    app.add_option("--scale", asked.scale,
                   "instead of a race, a recording of so many markers in thirty lanes, for trying what grows")
        ->check(CLI::Range(uint64_t{1}, uint64_t{10'000'000'000}));
    app.add_flag("--scale-system", asked.scaleSystem,
                 "in it also switches, wake-ups and call stacks, as the system tells them");
}

/// What does not go together; nullptr: all does.
const char* contradiction(const Asked& asked) {
    if (asked.offered == !asked.out.empty() || (asked.offered && asked.virtualClock))
        return "either --out or --offer is needed, and --offer only in real time";
    if (!asked.truth.empty() && !asked.virtualClock)
        return "--truth is exact only under the virtual clock. Add --virtual";
    if (asked.paced && !asked.virtualClock) return "--paced is for the virtual clock. Add --virtual";
    return nullptr;
}

int writeScaled(const Asked& asked) {
    std::string problem;
    if (skerry::writeScaled(asked.out, asked.scale, asked.scaleSystem, asked.settings.seed, asked.overwrite, problem))
        return 0;
    std::fprintf(stderr, "skerry: %s. Choose another --out, or add --overwrite.\n", problem.c_str());
    return 1;
}

uint32_t systemParts(const Asked& asked) {
    if (asked.virtualClock || asked.system == "none") return 0;
    if (asked.system == "stacks") return FUG_OS_SAMPLES;
    return FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_LOAD | FUG_OS_BLOCKING | FUG_OS_STACK_COPIES;
}

bool beginRecording(const Asked& asked) {
    fug_options options{};
    options.program = "skerry-regatta";
    options.build = "412";
    options.existing = asked.overwrite ? FUG_REPLACE_EXISTING : FUG_REFUSE_EXISTING;
    options.os = systemParts(asked);
    options.now = asked.virtualClock ? skerry::virtualNow : nullptr;
    options.no_background = asked.virtualClock && !asked.paced;
    // The same bytes for the same seed, but for the addresses of code in call stacks.
    if (asked.virtualClock && !asked.paced) options.buffer_folder = "";
    if (const int error = asked.offered ? fug_offer(&options) : 0) {
        std::fprintf(stderr, "skerry: cannot be offered: %s.\n", std::strerror(error));
        return false;
    }
    if (!asked.offered && fug_start(asked.out.c_str(), &options) != 0) {
        std::fprintf(stderr, "skerry: %s. Choose another --out, or add --overwrite.\n", fug_status());
        return false;
    }
    return true;
}

int sail(const Asked& asked) {
    const skerry::Seen seen{asked.system == "all", asked.system != "none"};
    const auto runtime = asked.virtualClock ? skerry::makeVirtualRuntime(asked.settings.seed, asked.paced, seen)
                                            : skerry::makeRealRuntime();
    if (!beginRecording(asked)) return 1;
    fug_context("clock", asked.virtualClock ? "virtual" : "real");
    fug_context("troubles", asked.troubles.c_str());
    if (asked.virtualClock && seen.stacks)
        fug_context("os samples", ("every " + std::to_string(skerry::kStackEveryNs / 1000) + " us of running").c_str());
    for (const int end : {SIGINT, SIGTERM}) std::signal(end, [](int) { skerry::endRace(); });
    const auto planted = skerry::sail(*runtime, asked.settings);
    fug_stop();
    if (*fug_status()) {
        std::fprintf(stderr, "skerry: %s\n", fug_status());
        return 1;
    }
    if (fug_lost())
        std::fprintf(stderr, "skerry: %llu events were lost\n", static_cast<unsigned long long>(fug_lost()));
    if (!asked.truth.empty() && !writeTruth(asked.truth, asked.settings, planted)) {
        std::fprintf(stderr, "skerry: cannot write %s. Choose another --truth.\n", asked.truth.c_str());
        return 1;
    }
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app("Sails the Skerry Regatta and records it with the Fugato recorder.\nTroubles: " + troubleNames());
    Asked asked;
    declareOptions(app, asked);
    CLI11_PARSE(app, argc, argv);
    if (asked.scale) return writeScaled(asked);
    if (const char* problem = contradiction(asked)) {
        std::fprintf(stderr, "skerry: %s.\n", problem);
        return 2;
    }
    if (!app.count("--detail")) asked.settings.detail = asked.virtualClock ? 0 : 1;
    if (!chooseTroubles(asked.troubles, asked.settings.troubles)) return 2;
    return sail(asked);
}
