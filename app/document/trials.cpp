// SPDX-License-Identifier: GPL-3.0-or-later
#include "trials.h"

#include <algorithm>
#include <utility>

namespace fugato {

namespace {
// While the recording grows; what is usual changes little by little.
constexpr int kAnewEvery = 4000;  // ms, at least
constexpr int kAnewPart = 100;    // of the time
}  // namespace

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

Trials::Trials(QObject* parent)
    : QObject(parent), tryingPace_(kAnewEvery, kAnewPart), singlePace_(kAnewEvery, kAnewPart) {
    again_.setSingleShot(true);
    connect(&again_, &QTimer::timeout, this, &Trials::ask);
}

void Trials::setExplanation(std::shared_ptr<const Explanation> explanation, bool grown) {
    if (grown && explanation && explanation_) return carryOver(std::move(explanation));
    explanation_ = std::move(explanation);
    again_.stop();
    trying_.silence();
    single_.silence();
    predictions_.clear();
    setRepairs({});
    prediction_.reset();
}

/// What is being worked out is not begun anew each time the recording grows: it would never end.
void Trials::carryOver(std::shared_ptr<const Explanation> explanation) {
    const auto from = std::exchange(explanation_, std::move(explanation));
    const auto now = [&](uint32_t cause) {
        return cause < from->causes.size() ? explanation_->causeLike(from->causes[cause].key) : kNone;
    };
    std::vector<Repair> tried;
    for (const Repair& repair : repairs_)
        if (const uint32_t same = now(repair.cause); same != kNone) tried.push_back({same, repair.gone});
    const bool any = !tried.empty();
    if (!any) trying_.silence();
    repairs_ = std::move(tried);
    if (prediction_) prediction_ = any ? carriedOver(*prediction_, *from, *explanation_) : nullptr;
    if (any && !trying_.busy() && !again_.isActive()) again_.start(static_cast<int>(tryingPace_.every()));
    std::map<std::pair<uint32_t, bool>, Single> singles;
    for (const auto& [key, single] : predictions_)
        if (const uint32_t same = now(key.first); same != kNone)
            singles[{same, key.second}] = {carriedOver(*single.prediction, *from, *explanation_), single.of};
    predictions_ = std::move(singles);
    asked_.cause = now(asked_.cause);
}

void Trials::setRepairs(std::vector<Repair> repairs) {
    if (repairs == repairs_) return;
    repairs_ = std::move(repairs);
    trying_.silence();
    prediction_.reset();
    emit changed();
    ask();
}

void Trials::ask() {
    if (!explanation_ || repairs_.empty()) return;
    tryingPace_.begun();
    trying_.ask(
        [e = explanation_, wanted = repairs_](const Progress& progress) { return predict(*e, wanted, progress); },
        [this, e = explanation_](const std::shared_ptr<const Prediction>& made) {
            prediction_ = e == explanation_ ? made : carriedOver(*made, *e, *explanation_);
            tryingPace_.done();
            if (e != explanation_) again_.start(static_cast<int>(tryingPace_.every()));
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
    const auto known = predictions_.find({repair.cause, repair.gone});
    const bool asked = single_.busy() && asked_ == repair;
    if (known == predictions_.end()) {
        if (!asked) askSingle(repair);
        return nullptr;
    }
    if (known->second.of != explanation_ && !asked && singlePace_.due()) askSingle(repair);
    return known->second.prediction;
}

void Trials::askSingle(const Repair& repair) {
    asked_ = repair;
    singlePace_.begun();
    single_.ask([e = explanation_, repair](const Progress& progress) { return predict(*e, {repair}, progress); },
                [this, e = explanation_](const std::shared_ptr<const Prediction>& made) {
                    singlePace_.done();
                    if (asked_.cause == kNone) return;  // there is no such cause any more
                    predictions_[{asked_.cause, asked_.gone}] = {
                        e == explanation_ ? made : carriedOver(*made, *e, *explanation_), e};
                    emit changed();
                });
}

}  // namespace fugato
