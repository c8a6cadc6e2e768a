// SPDX-License-Identifier: GPL-3.0-or-later
//
// The open recording and its explanation, and what is being tried with it. The work (loading.h) is done on other
// threads; all signals arrive on the interface thread, and a newer request silences the older one. A recording whose
// program still runs is followed.
#pragma once

#include <QObject>
#include <QTimer>
#include <memory>

#include "app/work/background_query.h"
#include "app/work/pace.h"
#include "core/model/open_recording.h"
#include "core/symbols/symbols.h"
#include "notes.h"
#include "trials.h"

namespace fugato {

struct GrowingFile;

class Document : public QObject {
    Q_OBJECT
public:
    explicit Document(QObject* parent = nullptr);
    ~Document() override;

    const std::shared_ptr<const Recording>& recording() const { return recording_; }
    /// Null until the first explanation is there.
    const std::shared_ptr<const Explanation>& explanation() const { return explanation_; }
    /// While it grows: the frames of the shown series that came after those that are explained.
    const std::vector<NewFrame>& newFrames() const { return newFrames_; }
    /// Null until its functions have been looked up, or where it holds no call stacks.
    const std::shared_ptr<const Symbols>& symbols() const { return symbols_; }
    /// Functions are being looked up, or the explanation that names them is being worked out.
    bool namingFunctions() const {
        return lookingUp_.busy() || (busy_ && symbols_ && explanation_ && explanation_->symbols != symbols_);
    }
    Trials& trials() { return trials_; }
    Notes& notes() { return notes_; }
    const Notes& notes() const { return notes_; }
    const Trials& trials() const { return trials_; }
    const QString& path() const { return path_; }
    /// Counts the recordings that were opened: another number is another recording, not more of the same.
    int opened() const { return opened_; }
    int64_t budget() const { return budget_; }  // 0: the recorded deadlines
    uint32_t series() const { return series_; }
    bool busy() const { return busy_; }
    /// Whether more of it is coming: its program still runs, or it is still being read.
    bool growing() const { return recording_ && (recording_->growing || reading_); }
    /// Whether lanes of it are still missing, since it is being read, or reading was cancelled.
    bool reading() const { return reading_; }
    bool hasFrames() const {
        return recording_ && !recording_->series.empty() && !recording_->series[0].frames.empty();
    }
    /// Why there is a recording but nothing explained yet: a sentence for every panel.
    QString whyUnexplained() const;

    void open(const QString& path);
    void cancel();
    void setBudget(int64_t ns);
    void setSeries(uint32_t series);
    /// Explains only some of the frames, or all again.
    void setScope(const ExplainScope& scope);
    const ExplainScope& scope() const { return scope_; }
    /// What the program should not exceed in memory, where the recording lies in a file. 0: no limit.
    void setMemoryLimit(uint64_t bytes);
    OpenOptions& openOptions() { return openOptions_; }

signals:
    void opening(const QString& path);
    void progressed(double part, const QString& what);
    void recordingChanged();
    /// More of the same recording has been read, or its program has recorded more; nothing that was there has gone.
    void recordingGrew();
    /// The functions of its call stacks are known. An explanation that names them follows.
    void symbolsChanged();
    /// `fresh`: of a newly opened recording or another series; else only the budget changed.
    void explanationChanged(bool fresh);
    /// After recordingGrew or explanationChanged, when recording and explanation belong together. While it grows a few
    /// times a second.
    void contentChanged(bool fresh);
    /// The same, while it grows at most once a second: for tables, and what else is read rather than watched.
    void detailsChanged();
    /// Up to 20 times a second, while it grows.
    void newFramesChanged();
    void failed(const QString& sentence);
    void cancelled();

private:
    void run(std::function<void(Task&)> work);
    std::function<bool(double, const QString&)> telling(Task& task);
    void show(const std::shared_ptr<const Recording>& recording, bool whole, const QString& path, bool first);
    void show(std::shared_ptr<const Explanation> explanation, bool fresh, bool carryOver);
    void explainAgain(bool fresh, bool carryOver = false);  // carryOver: what is simulated goes on
    void lookUpFunctions();
    void follow();
    void explainFurther(bool damaged);
    void readNewFrames();
    void tellContent(bool fresh);
    bool keptIsDamaged() const;
    void stopTask();
    void keepToExplanation();

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Explanation> explanation_;
    Trials trials_;
    Notes notes_;
    QString path_;
    int opened_ = 0;
    bool reading_ = false;
    OpenOptions openOptions_;
    int64_t budget_ = 0;
    ExplainScope scope_;
    uint32_t series_ = 0;
    bool busy_ = false;
    std::shared_ptr<const Symbols> symbols_;
    BackgroundQuery lookingUp_;  // functions
    std::shared_ptr<Task> task_;
    std::shared_ptr<GrowingFile> growing_;
    std::vector<NewFrame> newFrames_;
    BackgroundQuery readingFrames_;
    QTimer following_;                               // while the program that makes the recording still runs
    qint64 lookedBytes_ = -1, explainedBytes_ = -1;  // of the file, when last looked for frames and when explained
    Pace explaining_, details_;
    QTimer damageWatch_;  // looks whether what was kept of the recording was found damaged
};

}  // namespace fugato
