// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is being recorded from this window: a program that was started here, or a running one that was joined. One at a
// time. All that waits for the program is done on another thread. A started program goes on when this ends; a joined
// one too, and its recording is whole.
#pragma once

#include <QElapsedTimer>
#include <QTimer>
#include <functional>
#include <memory>

#include "app/work/background_query.h"
#include "session/joined_program.h"
#include "session/launch.h"

namespace fugato {

class RecordingSession : public QObject {
    Q_OBJECT
public:
    explicit RecordingSession(QObject* parent = nullptr);
    void start(const Launch& launch);
    void join(const RunningProgram& program, const JoinOptions& options);
    /// The one of that name or number of its process.
    void join(const std::string& which);

    bool runs() const { return program_ || joined_ || starting_.busy(); }
    bool joined() const { return joined_; }
    const QString& name() const { return name_; }
    /// Nothing is written but moments.
    bool keepsMoments() const { return moments_; }
    /// As the program told last; nothing where it has told nothing.
    const std::optional<SessionState>& state() const { return state_; }
    /// Over the last second or so; below zero where it is not known yet.
    double framesPerSecond() const { return framesPerSecond_; }
    /// Those met so far, with the detail that is recorded of each.
    const std::vector<std::pair<std::string, int>>& categories() const { return categories_; }

    /// Ends a started program, at once where it takes no notice; leaves a joined one.
    void end();
    void saveMoment();
    /// Of one category, or of all where that is empty.
    void setDetail(const std::string& category, int level);

signals:
    void changed();                                           // whether it runs
    void told();                                              // something else of what it tells
    void appeared(const QString& path);                       // its recording
    void saved(const QString& path, const QString& because);  // a moment
    void said(const QString& sentence);                       // why there is none, how it ended, what could not be done

private:
    /// Used by one question at a time.
    struct Link {
        std::optional<ProgramState> started;
        std::optional<JoinedProgram> joined;
        JoinedProgram* program() { return joined ? &*joined : started ? started->program() : nullptr; }
    };
    struct Heard {
        std::optional<SessionState> state;
        std::vector<std::pair<std::string, int>> categories;
        QStringList said;
        bool over = false;  // a joined program has ended, or was left
    };
    using Request = std::function<void(JoinedProgram&, Heard&)>;
    using Find = std::function<Result<RunningProgram>()>;
    void joinFound(const Find& find, const JoinOptions& options);
    void reset();
    void begin(std::shared_ptr<Link> link, const QString& name, bool moments);
    void request(const Request& wanted);
    void ask();
    void hear(const Heard& heard);
    void look();

    BackgroundQuery starting_, asking_;
    QTimer looking_, patience_;
    // Of a started program:
    Launch launch_;
    std::shared_ptr<LaunchedProgram> program_;
    bool shown_ = false, asked_ = false;
    // Of both:
    std::shared_ptr<Link> link_;
    std::vector<Request> wanted_;
    QString name_;
    bool joined_ = false, moments_ = false;
    std::optional<SessionState> state_;
    std::vector<std::pair<std::string, int>> categories_;
    QElapsedTimer sinceAsked_, sinceListed_, sinceCounted_;
    uint64_t counted_ = 0, framesBefore_ = 0;
    double framesPerSecond_ = -1;
};

}  // namespace fugato
