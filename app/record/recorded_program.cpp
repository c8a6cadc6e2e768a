// SPDX-License-Identifier: GPL-3.0-or-later
#include "recorded_program.h"

#include <signal.h>

#include "app/theme/words.h"
#include "session/recordings_folder.h"

namespace fugato {

namespace {

constexpr int kLookEveryMs = 100, kPatienceMs = 5000;

struct Started {
    std::shared_ptr<LaunchedProgram> program;
    std::string why;  // it could not be started
    Launch launch;
};

std::shared_ptr<const Started> startIt(Launch launch) {
    auto started = std::make_shared<Started>();
    const auto folder = recordingsFolder();
    if (!folder) {
        started->why = folder.failure().sentence;
        return started;
    }
    const size_t slash = launch.program.rfind('/');
    launch.recording =
        newRecordingPath(*folder, slash == std::string::npos ? launch.program : launch.program.substr(slash + 1));
    auto program = LaunchedProgram::start(launch);
    if (program)
        started->program = std::make_shared<LaunchedProgram>(std::move(*program));
    else
        started->why = program.failure().sentence;
    started->launch = std::move(launch);
    return started;
}

}  // namespace

RecordedProgram::RecordedProgram(QObject* parent) : QObject(parent) {
    looking_.setInterval(kLookEveryMs);
    patience_.setInterval(kPatienceMs);
    patience_.setSingleShot(true);
    connect(&looking_, &QTimer::timeout, this, &RecordedProgram::look);
    connect(&patience_, &QTimer::timeout, this, [this] {
        if (program_) program_->signal(SIGKILL);
    });
    connect(&starting_, &BackgroundQuery::failed, this, &RecordedProgram::said);
}

void RecordedProgram::start(const Launch& launch) {
    looking_.stop();
    patience_.stop();
    program_.reset();
    shown_ = asked_ = false;
    starting_.ask([launch](const Progress&) { return startIt(launch); },
                  [this](const std::shared_ptr<const Started>& started) {
                      launch_ = started->launch;
                      program_ = started->program;
                      if (program_) looking_.start();
                      if (!program_) emit said(toQString(started->why));
                      emit changed();
                  });
    emit changed();
}

void RecordedProgram::end() {
    if (!program_) return;
    asked_ = true;
    program_->signal(SIGTERM);
    patience_.start();
}

void RecordedProgram::look() {
    const auto program = program_;
    const bool ended = program->waitFor(0);
    if (!shown_)
        if (const auto made = recordingsMadeFor(launch_.recording); !made.empty()) {
            shown_ = true;
            emit appeared(toQString(made.front()));
        }
    if (!ended) return;
    looking_.stop();
    patience_.stop();
    program_.reset();
    const std::string how = program->howItEnded();
    if (!shown_)
        emit said(toQString((how.empty() ? "" : launch_.program + " " + how + ". ") +
                            whyNothingWasRecorded(launch_, program->file())));
    else if (!how.empty() && !asked_)
        emit said(toQString(launch_.program + " " + how + "."));
    emit changed();
}

}  // namespace fugato
