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

}  // namespace

int main(int argc, char** argv) {
    CLI::App app("Sails the Skerry Regatta and records it with the Fugato recorder.\nTroubles: " + troubleNames());
    std::string out, truth, troubles = "all";
    skerry::Settings settings;
    bool virtualClock = false, paced = false;
    app.add_option("--out", out, "recording to write (.fugato)");
    bool offered = false;
    app.add_flag("--offer", offered, "record nothing until it is joined");
    bool overwrite = false;
    app.add_flag("--overwrite", overwrite, "replace a recording that is there already");
    app.add_option("--seconds", settings.seconds, "length of the race")
        ->check(CLI::Range(0.1, 36000.0))
        ->capture_default_str();
    app.add_option("--troubles", troubles, "comma-separated names, all, or none")->capture_default_str();
    app.add_flag("--virtual", virtualClock,
                 "a virtual clock: the same recording for the same seed, as fast as it goes");
    app.add_flag("--paced", paced, "with --virtual: no faster than in real time; the same events, whatever else runs");
    app.add_option("--seed", settings.seed, "of the virtual clock's noise and the race")->capture_default_str();
    uint32_t systemParts = 0;
    std::string system = "all";
    app.add_option("--detail", settings.detail, "0: coarse markers only; 1: fine ones too (the default in real time)")
        ->check(CLI::Range(0, 1));
    app.add_option(
           "--system", system,
           "what to ask the operating system (with --virtual: what its clock tells in its place): all, stacks (its own "
           "call stacks only), or none")
        ->check(CLI::IsMember({"all", "stacks", "none"}))
        ->capture_default_str();
    app.add_option("--truth", truth, "where to list the planted causes (JSON); needs --virtual");
    uint64_t scale = 0;
    app.add_option("--scale", scale,
                   "instead of a race, a recording of so many markers in thirty lanes, for trying what grows")
        ->check(CLI::Range(uint64_t{1}, uint64_t{10'000'000'000}));
    bool scaleSystem = false;
    app.add_flag("--scale-system", scaleSystem,
                 "in it also switches, wake-ups and call stacks, as the system tells them");
    CLI11_PARSE(app, argc, argv);
    if (scale) {
        std::string problem;
        if (skerry::writeScaled(out, scale, scaleSystem, settings.seed, overwrite, problem)) return 0;
        std::fprintf(stderr, "skerry: %s. Choose another --out, or add --overwrite.\n", problem.c_str());
        return 1;
    }
    if (offered == (app.count("--out") > 0) || (offered && virtualClock)) {
        std::fprintf(stderr, "skerry: either --out or --offer is needed, and --offer only in real time.\n");
        return 2;
    }
    if (!app.count("--detail")) settings.detail = virtualClock ? 0 : 1;
    if (!chooseTroubles(troubles, settings.troubles)) return 2;
    if (!truth.empty() && !virtualClock) {
        std::fprintf(stderr, "skerry: --truth is exact only under the virtual clock. Add --virtual.\n");
        return 2;
    }

    if (paced && !virtualClock) {
        std::fprintf(stderr, "skerry: --paced is for the virtual clock. Add --virtual.\n");
        return 2;
    }
    if (!virtualClock && system == "all")
        systemParts = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_LOAD | FUG_OS_BLOCKING | FUG_OS_STACK_COPIES;
    if (!virtualClock && system == "stacks") systemParts = FUG_OS_SAMPLES;
    const skerry::Seen seen{system == "all", system != "none"};
    const auto runtime =
        virtualClock ? skerry::makeVirtualRuntime(settings.seed, paced, seen) : skerry::makeRealRuntime();
    fug_options options{};
    options.program = "skerry-regatta";
    options.build = "412";
    options.existing = overwrite ? FUG_REPLACE_EXISTING : FUG_REFUSE_EXISTING;
    options.os = systemParts;
    options.now = virtualClock ? skerry::virtualNow : nullptr;
    options.no_background = virtualClock && !paced;
    // The same bytes for the same seed, but for the addresses of code in call stacks.
    if (virtualClock && !paced) options.buffer_folder = "";
    if (const int error = offered ? fug_offer(&options) : 0) {
        std::fprintf(stderr, "skerry: cannot be offered: %s.\n", std::strerror(error));
        return 1;
    }
    if (!offered && fug_start(out.c_str(), &options) != 0) {
        std::fprintf(stderr, "skerry: %s. Choose another --out, or add --overwrite.\n", fug_status());
        return 1;
    }
    fug_context("clock", virtualClock ? "virtual" : "real");
    fug_context("troubles", troubles.c_str());
    if (virtualClock && seen.stacks)
        fug_context("os samples", ("every " + std::to_string(skerry::kStackEveryNs / 1000) + " us of running").c_str());
    for (const int asked : {SIGINT, SIGTERM}) std::signal(asked, [](int) { skerry::endRace(); });
    const auto planted = skerry::sail(*runtime, settings);
    fug_stop();
    if (*fug_status()) {
        std::fprintf(stderr, "skerry: %s\n", fug_status());
        return 1;
    }
    if (fug_lost())
        std::fprintf(stderr, "skerry: %llu events were lost\n", static_cast<unsigned long long>(fug_lost()));
    if (!truth.empty() && !writeTruth(truth, settings, planted)) {
        std::fprintf(stderr, "skerry: cannot write %s. Choose another --truth.\n", truth.c_str());
        return 1;
    }
    return 0;
}
