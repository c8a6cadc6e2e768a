// SPDX-License-Identifier: GPL-3.0-or-later
#include <fstream>
#include <nlohmann/json.hpp>

#include "core/explain/explanation.h"
#include "core/model/open_recording.h"
#include "rows.h"

namespace measure {

std::vector<Row> truthRows() {
    int named = 0, runs = 0, clean = 0, cleanRuns = 0, whole = 0, frames = 0;
    for (const char* trouble : {"autosave", "gust", "rounding", "gulls", "spray", "log", "table", "none"}) {
        for (int seed = 101; seed <= 104; ++seed) {
            const std::string file = scratchFile("truth.fugato"), truthFile = scratchFile("truth.json");
            if (!sail({"--virtual", "--seed", std::to_string(seed), "--seconds", "30", "--troubles", trouble, "--out",
                       file, "--truth", truthFile}))
                continue;
            const auto opened = fugato::openRecording(file);
            if (!opened) continue;
            const auto e = fugato::explain(*opened, fugato::accountFrames(**opened, 0), 0);
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
    return {{"truth: planted trouble named first, each alone, over seeds",
             std::to_string(named) + " of " + std::to_string(runs), "99 %", named * 100 >= runs * 99 && runs > 0},
            {"truth: clean runs without a cause", std::to_string(clean) + " of " + std::to_string(cleanRuns), "all",
             clean == cleanRuns && cleanRuns > 0},
            {"whole: frames whose excess is shared out exactly",
             std::to_string(whole) + " of " + std::to_string(frames), "all", whole == frames && frames > 0}};
}

}  // namespace measure
