// SPDX-License-Identifier: GPL-3.0-or-later
//
// The open recording and its explanation. Reading and explaining run on a thread of their own; all
// signals arrive on the interface thread, and a newer request silences the older one.
#pragma once

#include <QElapsedTimer>
#include <QObject>
#include <QTimer>
#include <map>
#include <memory>

#include "app/document/asking.h"
#include "core/explain/simulation/what_if.h"
#include "core/model/growing_recording.h"
#include "format/result.h"

namespace fugato {

class Document : public QObject {
    Q_OBJECT
public:
    explicit Document(QObject* parent = nullptr);
    ~Document() override;

    const std::shared_ptr<const Recording>& recording() const { return recording_; }
    /// Null until the first explanation is there.
    const std::shared_ptr<const Explanation>& explanation() const { return explanation_; }
    const QString& path() const { return path_; }
    int64_t budget() const { return budget_; }  // 0: the recorded deadlines
    uint32_t series() const { return series_; }
    bool busy() const { return busy_; }
    bool hasFrames() const {
        return recording_ && !recording_->series.empty() && !recording_->series[0].frames.empty();
    }
    /// Why there is a recording but nothing explained yet: a sentence for every panel.
    QString whyUnexplained() const;

    void open(const QString& path);
    void cancel();
    void setBudget(int64_t ns);
    void setSeries(uint32_t series);
    /// What the person tries out: causes repaired. The prediction comes a moment later.
    const std::vector<Repair>& repairs() const { return repairs_; }
    void setRepairs(std::vector<Repair> repairs);
    /// Tries a repair, or no longer where it was being tried.
    void toggleRepair(const Repair& repair);
    /// What the repairs being tried would bring; null where none are, or it is not worked out yet.
    const std::shared_ptr<const Prediction>& prediction() const { return prediction_; }
    /// What the repair of one cause would bring. Null where that is not known yet; then it is worked out, and
    /// predictionChanged() tells when it is there.
    std::shared_ptr<const Prediction> predictionOf(const Repair& repair);
    bool predicting() const { return trying_.busy() || single_.busy(); }
    /// What the program should not exceed in memory, where the recording lies in a file. 0: no limit.
    void setMemoryLimit(uint64_t bytes);
    OpenOptions& openOptions() { return openOptions_; }

signals:
    void opening(const QString& path);
    void progressed(double part, const QString& what);
    void recordingChanged();
    /// More of the same recording has been read, or its program has recorded more; nothing that was there has gone.
    void recordingGrew();
    /// `fresh`: of a newly opened recording or another series; else only the budget changed.
    void explanationChanged(bool fresh);
    void predictionChanged();
    void failed(const QString& sentence);
    void cancelled();

private:
    struct Growing;
    void run(std::function<void(Task&)> work);
    Progress progress(Task& task, double from, double to, const QString& what);
    void explainAgain(bool fresh);
    void follow();
    bool keptIsDamaged() const;
    void stopTask();
    void keepToExplanation();
    void forgetPredictions();

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Explanation> explanation_;
    QString path_;
    OpenOptions openOptions_;
    int64_t budget_ = 0;
    uint32_t series_ = 0;
    bool busy_ = false;
    std::vector<Repair> repairs_;
    std::shared_ptr<const Prediction> prediction_;
    std::map<std::pair<uint32_t, bool>, std::shared_ptr<const Prediction>> predictions_;  // by cause and `gone`
    Repair asked_;                                                                        // of single_
    Asking trying_, single_;
    std::shared_ptr<Growing> growing_;
    QTimer following_;  // while the program that makes the recording still runs
    qint64 followedBytes_ = -1, followTook_ = 0;
    QElapsedTimer followClock_;
    QTimer damageWatch_;  // looks whether what was kept of the recording was found damaged
    std::shared_ptr<Task> task_;
};

}  // namespace fugato
