// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_session.h"

#include <signal.h>

#include "app/theme/words.h"
#include "session/recordings_folder.h"

namespace fugato {

namespace {

constexpr int kLookEveryMs = 100, kAskEveryMs = 250, kCategoriesEveryMs = 2000, kCountEveryMs = 1000,
              kPatienceMs = 5000;

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
    launch.recording = newRecordingPath(*folder, launch.program.substr(launch.program.rfind('/') + 1));
    auto program = LaunchedProgram::start(launch);
    if (program)
        started->program = std::make_shared<LaunchedProgram>(std::move(*program));
    else
        started->why = program.failure().sentence;
    started->launch = std::move(launch);
    return started;
}

}  // namespace

RecordingSession::RecordingSession(QObject* parent) : QObject(parent) {
    looking_.setInterval(kLookEveryMs);
    patience_.setInterval(kPatienceMs);
    patience_.setSingleShot(true);
    connect(&looking_, &QTimer::timeout, this, &RecordingSession::look);
    connect(&patience_, &QTimer::timeout, this, [this] {
        if (program_) program_->signal(SIGKILL);
    });
    connect(&starting_, &BackgroundQuery::failed, this, &RecordingSession::said);
    connect(&asking_, &BackgroundQuery::failed, this, &RecordingSession::said);
}

void RecordingSession::reset() {
    looking_.stop();
    patience_.stop();
    asking_.silence();
    program_.reset();
    link_.reset();
    wanted_.clear();
    state_.reset();
    categories_.clear();
    joined_ = moments_ = shown_ = asked_ = false;
    framesPerSecond_ = -1;
}

void RecordingSession::begin(std::shared_ptr<Link> link, const QString& name, bool moments) {
    link_ = std::move(link);
    name_ = name;
    moments_ = moments;
    sinceAsked_.start();
    sinceListed_.start();
    sinceCounted_.invalidate();
    looking_.start();
}

void RecordingSession::start(const Launch& launch) {
    reset();
    starting_.ask([launch](const Progress&) { return startIt(launch); },
                  [this](const std::shared_ptr<const Started>& started) {
                      launch_ = started->launch;
                      program_ = started->program;
                      if (program_) {
                          auto link = std::make_shared<Link>();
                          link->started.emplace(program_->process(), launch_.recording);
                          begin(link, toQString(launch_.program.substr(launch_.program.rfind('/') + 1)),
                                launch_.moments.has_value());
                      } else {
                          emit said(toQString(started->why));
                      }
                      emit changed();
                  });
    emit changed();
}

void RecordingSession::join(const RunningProgram& program, const JoinOptions& options) {
    joinFound([program] { return Result<RunningProgram>(program); }, options);
}

void RecordingSession::join(const std::string& which) {
    joinFound([which] { return runningProgram(which); }, {});
}

void RecordingSession::joinFound(const Find& find, const JoinOptions& options) {
    struct Joined {
        std::shared_ptr<Link> link;
        std::string name, path, why;
    };
    reset();
    starting_.ask(
        [find, options](const Progress&) {
            const auto joined = std::make_shared<Joined>();
            const auto program = find();
            const auto folder = recordingsFolder();
            if (!program || !folder) {
                joined->why = (program ? folder.failure() : program.failure()).sentence;
                return std::shared_ptr<const Joined>(joined);
            }
            joined->name = program->name;
            joined->path = newRecordingPath(*folder, program->name);
            auto link = JoinedProgram::join(program->socket, joined->path, options);
            if (link) {
                joined->link = std::make_shared<Link>();
                joined->link->joined = std::move(*link);
            } else {
                joined->why = link.failure().sentence;
            }
            return std::shared_ptr<const Joined>(joined);
        },
        [this, moments = options.moments.has_value()](const std::shared_ptr<const Joined>& joined) {
            joined_ = joined->link != nullptr;
            if (joined_) begin(joined->link, toQString(joined->name), moments);
            emit changed();
            if (!joined_)
                emit said(toQString(joined->why));
            else if (!moments_)
                emit appeared(toQString(joined->path));
        });
    emit changed();
}

void RecordingSession::end() {
    if (joined_)
        return request([](JoinedProgram& program, Heard& heard) {
            if (const auto left = program.leave(); !left) heard.said << toQString(left.failure().sentence);
            heard.over = true;
        });
    if (!program_) return;
    asked_ = true;
    program_->signal(SIGTERM);
    patience_.start();
}

void RecordingSession::saveMoment() {
    request([](JoinedProgram& program, Heard& heard) {
        if (const auto saved = program.saveMoment("by hand"); !saved) heard.said << toQString(saved.failure().sentence);
    });
}

void RecordingSession::setDetail(const std::string& category, int level) {
    request([category, level](JoinedProgram& program, Heard& heard) {
        if (const auto set = program.setDetail(category, level); !set) heard.said << toQString(set.failure().sentence);
    });
}

void RecordingSession::request(const Request& wanted) {
    if (!link_) return;
    wanted_.push_back(wanted);
    ask();
}

/// Requests go before, so that what they changed is told at once.
void RecordingSession::ask() {
    if (asking_.busy() || !link_) return;
    sinceAsked_.start();
    // Listing categories takes a lock in the program: only now and then, and when something was switched.
    const bool list = !wanted_.empty() || categories_.empty() || sinceListed_.elapsed() >= kCategoriesEveryMs;
    if (list) sinceListed_.start();
    asking_.ask(
        [link = link_, list, requests = std::exchange(wanted_, {})](const Progress&) {
            auto heard = std::make_shared<Heard>();
            if (link->started) heard->state = link->started->look();
            JoinedProgram* const program = link->program();
            for (const Request& request : requests) {
                if (program)
                    request(*program, *heard);
                else
                    heard->said << tr("The program does not listen; what was asked for was not done.");
            }
            if (!program || heard->over) return std::shared_ptr<const Heard>(heard);
            if (link->joined) {
                const auto state = program->look();
                if (state)
                    heard->state = *state;
                else
                    heard->said << toQString(state.failure().sentence);
                heard->over = !state || !state->recording;
            }
            if (!list) return std::shared_ptr<const Heard>(heard);
            if (auto categories = program->categories()) heard->categories = std::move(*categories);
            return std::shared_ptr<const Heard>(heard);
        },
        [this](const std::shared_ptr<const Heard>& heard) { hear(*heard); });
}

void RecordingSession::hear(const Heard& heard) {
    for (const QString& sentence : heard.said) emit said(name_ + ": " + shown(sentence));
    const uint32_t before = state_ ? state_->saves : 0;
    if (heard.state) {
        if (!sinceCounted_.isValid() || sinceCounted_.elapsed() >= kCountEveryMs) {
            if (sinceCounted_.isValid() && heard.state->frames >= counted_)
                framesPerSecond_ = static_cast<double>(heard.state->frames - counted_) * 1000 /
                                   static_cast<double>(sinceCounted_.elapsed());
            counted_ = heard.state->frames;
            sinceCounted_.start();
        }
        if (!state_) framesBefore_ = joined_ ? heard.state->frames : 0;
        state_ = heard.state;
        state_->frames -= std::min(state_->frames, framesBefore_);
        if (!heard.categories.empty()) categories_ = heard.categories;
    }
    if (heard.over) {
        if (state_ && !state_->recording && !state_->status.empty())
            emit said(tr("%1 is no longer recorded: %2.").arg(name_, toQString(state_->status)));
        const std::optional<SessionState> last = state_;
        reset();
        emit changed();
    } else {
        emit told();
    }
    if (heard.state && heard.state->saves != before && !heard.state->saved.empty())
        emit saved(toQString(heard.state->saved), toQString(heard.state->because));
    if (!wanted_.empty()) ask();
}

void RecordingSession::look() {
    if (sinceAsked_.elapsed() >= kAskEveryMs) ask();
    if (!program_) return;
    const auto program = program_;
    const bool ended = program->waitFor(0);
    if (!shown_)
        if (const auto made = recordingsMadeFor(launch_.recording); !made.empty()) {
            shown_ = true;
            if (!moments_) emit appeared(toQString(made.front()));
        }
    if (!ended) return;
    const std::string how = program->howItEnded();
    const bool nothing = !shown_, moments = moments_, asked = asked_;
    reset();
    if (nothing)
        emit said(toQString(
            (how.empty() ? "" : launch_.program + " " + how + ". ") +
            (moments ? "Nothing happened that was to be saved." : whyNothingWasRecorded(launch_, program->file()))));
    else if (!how.empty() && !asked)
        emit said(toQString(launch_.program + " " + how + "."));
    emit changed();
}

}  // namespace fugato
