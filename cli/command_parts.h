// SPDX-License-Identifier: GPL-3.0-or-later
//
// What several commands need: opening with progress, notes about damage.
#pragma once

#include <unistd.h>

#include <chrono>
#include <ostream>

#include "core/model/open_recording.h"
#include "format/opening.h"

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
    bool operator()(double part) {
        if (shown_ && std::chrono::steady_clock::now() - begin_ > std::chrono::milliseconds(500)) {
            err_ << "\r" << what_ << "… " << static_cast<int>(part * 100) << " %" << std::flush;
            told_ = true;
        }
        return true;
    }

private:
    const char* what_;
    std::ostream& err_;
    bool shown_, told_ = false;
    std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
};

inline void tellDamage(const Recording& recording, std::ostream& err) {
    for (const std::string& note : recording.damage.notes) err << "note: " << note << "\n";
    for (const std::string& sentence : recording.repairs.sentences()) err << "note: " << sentence << "\n";
}

/// Opens a recording, large ones with their index.
inline Result<std::shared_ptr<const Recording>> openForCommand(const std::string& file, std::ostream& err) {
    ProgressLine line("Opening", err);
    OpenOptions options = usualOpenOptions();
    options.note = makeRecordingWhole(file);
    return openRecording(file, std::ref(line), options);
}

}  // namespace fugato
