// SPDX-License-Identifier: GPL-3.0-or-later
#include "session_parts.h"

#include <atomic>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "command_parts.h"
#include "commands.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
#include "core/summary/summary.h"
#include "session/recordings_folder.h"
#include "summary_json.h"

namespace fugato {

namespace {

std::atomic<int> interrupts{0};
std::atomic<bool> lastOnlyHere{false};

}  // namespace

TakeInterrupts::TakeInterrupts() {
    interrupts.store(0);
    struct sigaction action {};
    action.sa_sigaction = [](int, siginfo_t* info, void*) {
        ++interrupts;
        lastOnlyHere.store(info->si_code != SI_KERNEL);
    };
    action.sa_flags = SA_SIGINFO;
    sigaction(SIGINT, &action, &before_[0]);
    sigaction(SIGTERM, &action, &before_[1]);
}

TakeInterrupts::~TakeInterrupts() {
    sigaction(SIGINT, &before_[0], nullptr);
    sigaction(SIGTERM, &before_[1], nullptr);
}

int TakeInterrupts::count() const { return interrupts.load(); }
bool TakeInterrupts::onlyHere() const { return lastOnlyHere.load(); }

Result<std::string> newRecordingFor(const std::string& to, const std::string& program) {
    if (to.empty()) {
        const auto folder = recordingsFolder();
        if (!folder) return Failure{folder.failure().sentence, false, true};
        return newRecordingPath(*folder, std::filesystem::path(program).filename().string());
    }
    if (std::filesystem::exists(to))
        return Failure{to + " is there already; recordings are never replaced.", false, true};
    if (std::filesystem::path(to).extension() != ".fugato")
        return Failure{"\"" + to + "\" behind --to does not end in .fugato."};
    return std::filesystem::absolute(to).string();
}

void SavesTold::tell(const SessionState& state, std::ostream& err, bool terminal) {
    if (state.saves == told_ || state.saved.empty()) return;
    told_ = state.saves;
    err << (terminal ? "\r\033[K" : "") << "Saved " << shownText(state.saved) << ": " << state.because << ".\n"
        << std::flush;
}

std::string momentsNotUnderstood(const std::string& text) {
    return "\"" + text +
           "\" behind --moments is not understood. Write for example: before=20s,after=2s,frame=50ms,usual=3,late=3/10,"
           "errors,pause=10s,saves=20";
}

int tellRecordings(const std::vector<std::string>& recordings, bool json, std::ostream& out, std::ostream& err) {
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    for (const std::string& path : recordings) {
        const auto opened = openForCommand(path, err);
        if (!opened) return tellFailure(err, kExitUnreadable, opened.failure().sentence);
        const Recording& r = **opened;
        tellDamage(r, err);
        const ExplainOptions options(0, symbolsForCommand(r, err), {});
        std::vector<std::shared_ptr<const Explanation>> explained;
        for (uint32_t series = 0; series < r.series.size(); ++series)
            if (!r.series[series].frames.empty())
                explained.push_back(explain(*opened, sumCriticalPaths(r, series), options));
        if (json) {
            auto one = explained.empty() ? nlohmann::ordered_json::object() : summaryJson(*summaryOf(explained, {}));
            one["recording"] = path;
            all.push_back(std::move(one));
            continue;
        }
        out << path << ": " << durationText(r.end - r.begin) << ", " << plural(r.markerCount(), "marker", "markers")
            << "\n";
        if (explained.empty()) out << "  No frames were recorded.\n";
        for (const auto& e : explained) {
            out << "  " << r.series[e->series].name << ": " << verdictSentence(*e) << ".\n";
            for (uint32_t c = 0; c < std::min<uint32_t>(e->listed, 5); ++c)
                out << "    " << e->causes[c].letter << "  " << causeTitle(*e, e->causes[c]) << "  ("
                    << causeKindPhrase(*e, e->causes[c]) << "): " << durationText(e->causes[c].late) << " late\n";
        }
    }
    if (json)
        out << all.dump(1) << "\n";
    else
        out << "\nfugato shows it; fugato-cli explain tells more:  fugato " << recordings.front() << "\n";
    return kExitOk;
}

}  // namespace fugato
