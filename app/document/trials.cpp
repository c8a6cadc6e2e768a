// SPDX-License-Identifier: GPL-3.0-or-later
#include "trials.h"

#include <algorithm>

namespace fugato {

QList<TrialChoice> trialChoices(const Explanation& e, uint32_t index) {
    QList<TrialChoice> choices;
    const Cause& cause = e.causes[index];
    const bool core = cause.kind == CauseKind::NoCore;
    if (cause.kind != CauseKind::Unusual && (cause.path || core))
        choices << TrialChoice{{index, false},
                               core ? Trials::tr("Simulate a core at once") : Trials::tr("Simulate usual time")};
    if (cause.path && !core) choices << TrialChoice{{index, true}, Trials::tr("Simulate without it")};
    return choices;
}

void Trials::setExplanation(std::shared_ptr<const Explanation> explanation, bool carryOver) {
    std::vector<Repair> tried;  // what is being tried goes on with the causes it was about
    if (carryOver && explanation && explanation_)
        for (const Repair& repair : repairs_)
            if (const uint32_t same = explanation->causeLike(explanation_->causes[repair.cause].key); same != kNone)
                tried.push_back({same, repair.gone});
    explanation_ = std::move(explanation);
    trying_.silence();
    single_.silence();
    predictions_.clear();
    prediction_.reset();
    repairs_.clear();
    setRepairs(std::move(tried));
}

void Trials::setRepairs(std::vector<Repair> repairs) {
    if (!explanation_ || repairs == repairs_) return;
    repairs_ = std::move(repairs);
    trying_.silence();
    prediction_.reset();
    emit changed();
    if (repairs_.empty()) return;
    trying_.ask(
        [e = explanation_, wanted = repairs_](const Progress& progress) { return predict(*e, wanted, progress); },
        [this](const std::shared_ptr<const Prediction>& made) {
            prediction_ = made;
            emit changed();
        });
}

void Trials::toggle(const Repair& repair) {
    std::vector<Repair> wanted = repairs_;
    const auto same =
        std::find_if(wanted.begin(), wanted.end(), [&](const Repair& r) { return r.cause == repair.cause; });
    if (same == wanted.end())
        wanted.push_back(repair);
    else if (*same == repair)
        wanted.erase(same);
    else
        *same = repair;
    setRepairs(std::move(wanted));
}

std::shared_ptr<const Prediction> Trials::predictionOf(const Repair& repair) {
    if (!explanation_ || repair.cause >= explanation_->causes.size()) return nullptr;
    const auto key = std::pair(repair.cause, repair.gone);
    if (const auto known = predictions_.find(key); known != predictions_.end()) return known->second;
    if (single_.busy() && asked_ == repair) return nullptr;
    asked_ = repair;
    single_.ask([e = explanation_, repair](const Progress& progress) { return predict(*e, {repair}, progress); },
                [this, key](const std::shared_ptr<const Prediction>& made) {
                    predictions_[key] = made;
                    emit changed();
                });
    return nullptr;
}

}  // namespace fugato
