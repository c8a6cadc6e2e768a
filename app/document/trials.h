// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the person tries out: causes of an explanation repaired, and what that would bring. Predictions are worked out
// on other threads. Interface thread only.
#pragma once

#include <map>

#include "app/work/background_query.h"
#include "app/work/pace.h"
#include "core/explain/simulation/what_if.h"

namespace fugato {

/// Something that can be simulated of a cause, as it is offered.
struct TrialChoice {
    Repair repair;
    QString name;
};
/// What usual frames do not have has no usual time; what nothing explains cannot be repaired.
QList<TrialChoice> trialChoices(const Explanation& explanation, uint32_t cause);

class Trials : public QObject {
    Q_OBJECT
public:
    explicit Trials(QObject* parent = nullptr);
    /// Another explanation: nothing is tried any more. `grown`: of the same recording that has grown; what is tried
    /// goes on, told as it was until it is worked out anew.
    void setExplanation(std::shared_ptr<const Explanation> explanation, bool grown);

    const std::vector<Repair>& repairs() const { return repairs_; }
    /// The prediction comes a moment later.
    void setRepairs(std::vector<Repair> repairs);
    /// Tries a repair, or no longer where it was being tried.
    void toggle(const Repair& repair);
    /// What the repairs being tried would bring; null where none are, or it is not worked out yet.
    const std::shared_ptr<const Prediction>& prediction() const { return prediction_; }
    /// What the repair of one cause would bring. Null where that is not known yet; then it is worked out, and
    /// changed() tells when it is there.
    std::shared_ptr<const Prediction> predictionOf(const Repair& repair);
    bool busy() const { return trying_.busy() || single_.busy(); }

signals:
    void changed();  // not where only the recording has grown

private:
    void carryOver(std::shared_ptr<const Explanation> explanation);
    void ask();
    void askSingle(const Repair& repair);
    struct Single {
        std::shared_ptr<const Prediction> prediction;
        std::shared_ptr<const Explanation> of;  // what it was worked out for
    };
    std::shared_ptr<const Explanation> explanation_;
    std::vector<Repair> repairs_;
    std::shared_ptr<const Prediction> prediction_;
    std::map<std::pair<uint32_t, bool>, Single> predictions_;  // by cause and `gone`
    Repair asked_;                                             // of single_
    BackgroundQuery trying_, single_;
    QTimer again_;  // while the recording grows: until what is simulated is worked out anew
    Pace tryingPace_, singlePace_;
};

}  // namespace fugato
