// SPDX-License-Identifier: GPL-3.0-or-later
//
// What several commands need: opening with progress, notes about damage.
#pragma once

#include <unistd.h>

#include <CLI/CLI.hpp>
#include <charconv>
#include <chrono>
#include <cmath>
#include <ostream>

#include "core/explain/words/quantities.h"
#include "core/model/open_recording.h"
#include "core/model/recording_index.h"
#include "core/symbols/symbols.h"
#include "format/opening.h"
#include "format/shown_text.h"

namespace fugato {

/// Says on a terminal how far long work is, once it has taken half a second.
class ProgressLine {
public:
    ProgressLine(const char* what, std::ostream& err) : what_(what), err_(err), shown_(isatty(STDERR_FILENO) == 1) {}
    ~ProgressLine() {
        if (told_) err_ << "\r\033[K" << std::flush;
    }
    ProgressLine(const ProgressLine&) = delete;
    ProgressLine& operator=(const ProgressLine&) = delete;
    bool operator()(double part) const {
        if (shown_ && std::chrono::steady_clock::now() - begin_ > std::chrono::milliseconds(500)) {
            err_ << "\r" << what_ << "… " << static_cast<int>(part * 100) << " %" << std::flush;
            told_ = true;
        }
        return true;
    }

private:
    const char* what_;
    std::ostream& err_;
    bool shown_;
    mutable bool told_ = false;
    std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
};

/// Accepts finite numbers from `low` to `high`, written with a point whatever the locale. (CLI::Range lets NaN pass and
/// takes "-1" for a very large whole number.)
template <class Number>
CLI::Validator numberFrom(Number low, Number high) {
    const auto text = [](Number value) {
        char digits[64];
        return std::string(digits, std::to_chars(digits, digits + sizeof digits, value).ptr);
    };
    const std::string range = "from " + text(low) + " to " + text(high);
    const std::string what = std::is_integral_v<Number> ? "a whole number " : "a number ";
    return CLI::Validator(
        [=](const std::string& given) {
            Number value{};
            const char* end = given.data() + given.size();
            const auto read = std::from_chars(given.data(), end, value);
            const bool good = read.ec == std::errc() && read.ptr == end && value >= low && value <= high;
            return good ? std::string() : "\"" + given + "\" is not " + what + range;
        },
        what + range);
}

inline void tellNote(std::ostream& err, const std::string& sentence) { err << "note: " << shownText(sentence) << "\n"; }
inline void tellDamage(const Recording& recording, std::ostream& err) {
    for (const std::string& note : recording.notes()) tellNote(err, note);
}
/// Says what went wrong; returns the exit code.
inline int tellFailure(std::ostream& err, int code, const std::string& sentence) {
    err << "fugato-cli: " << shownText(sentence) << "\n";
    return code;
}

/// Opens a recording, large ones with their index.
inline Result<std::shared_ptr<const Recording>> openForCommand(const std::string& file, std::ostream& err) {
    ProgressLine line("Opening", err);
    OpenOptions options = usualOpenOptions();
    options.note = makeRecordingWhole(file, std::ref(line));
    auto opened = openRecording(file, std::ref(line), options);
    if (!opened || !(*opened)->fileState) return opened;
    // Nothing is printed of an index that is damaged: it is made anew first.
    const Storage& storage = *(*opened)->storage;
    if (storage.check(0, storage.size())) return opened;
    forgetIndex(**opened);
    return openRecording(file, std::ref(line), options);
}

/// Why a range of seconds is none.
inline std::string rangeProblem(const Recording& recording) {
    return "--from must lie before --to and before the recording's end at " +
           durationText(recording.end - recording.begin) + ".";
}

/// The functions that its call stacks name, and what could not be named; null where it holds none.
inline std::shared_ptr<const Symbols> symbolsForCommand(const Recording& recording, std::ostream& err) {
    if (!recording.stackCount()) return nullptr;
    ProgressLine line("Looking up functions", err);
    auto symbols = symbolsOf(recording, indexFolder(), std::ref(line));
    for (const std::string& sentence : symbols->missing()) tellNote(err, sentence);
    return symbols;
}

}  // namespace fugato
