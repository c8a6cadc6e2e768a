// SPDX-License-Identifier: GPL-3.0-or-later
#include "document.h"

#include <QFileInfo>
#include <algorithm>
#include <mutex>

#include "core/explain/causes/growing.h"
#include "core/model/recording_index.h"
#include "format/opening.h"

namespace fugato {

namespace {
constexpr int kFollowEvery = 12;        // ms
constexpr int kWatchDamageEvery = 500;  // ms
constexpr int kLookAgainAfter = 2000;   // ms: a file that no longer grows may be finished
}  // namespace

/// Reading on is done by one task after another; one that was cancelled may still be at it.
struct Document::Growing {
    std::mutex lock;
    GrowingRecording recording;
    Growing(const std::string& path, const OpenOptions& options) : recording(path, options) {}
};

/// Progress of a part of a task, told to the person in steps of a hundredth.
Progress Document::progress(Task& task, double from, double to, const QString& what) {
    return [this, &task, from, to, what, told = -1.0](double part) mutable {
        const double now = from + (to - from) * part;
        if (now - told >= 0.01) {
            told = now;
            task.post([this, now, what] { emit progressed(now, what); });
        }
        return !task.cancelled();
    };
}

Document::Document(QObject* parent) : QObject(parent), openOptions_(usualOpenOptions()) {
    following_.setSingleShot(true);
    connect(&following_, &QTimer::timeout, this, &Document::follow);
    connect(&damageWatch_, &QTimer::timeout, this, [this] {
        if (keptIsDamaged()) follow();
    });
    damageWatch_.start(kWatchDamageEvery);
    connect(this, &Document::explanationChanged, this, [this] {
        // Reading on and explaining take no more than half of the time.
        if (recording_ && recording_->growing)
            following_.start(static_cast<int>(std::max<qint64>(kFollowEvery, followTook_)));
    });
}
Document::~Document() { stopTask(); }

void Document::stopTask() {
    if (task_) task_->cancel();
    task_.reset();
    busy_ = false;
}

void Document::run(std::function<void(Task&)> work) {
    stopTask();
    busy_ = true;
    task_ = Task::start(std::move(work), [this](const QString& sentence) {
        busy_ = false;
        keepToExplanation();
        emit failed(sentence);
    });
}

void Document::open(const QString& path) {
    following_.stop();
    followedBytes_ = -1;
    followTook_ = 0;
    growing_.reset();
    emit opening(path);
    run([this, path](Task& task) {
        OpenOptions options = openOptions_;
        const auto early = std::make_shared<bool>(false);  // whether some of it is shown already
        const auto show = [this, path, early](const std::shared_ptr<const Recording>& recording) {
            recording_ = recording;
            if (*early) {
                emit recordingGrew();
                return;
            }
            *early = true;
            explanation_.reset();
            forgetPredictions();
            path_ = path;
            budget_ = 0;
            series_ = 0;
            emit recordingChanged();
        };
        options.early = [&task, show](const std::shared_ptr<const Recording>& recording) {
            task.post([show, recording] { show(recording); });
        };
        const Progress reading = progress(task, 0, 0.6, tr("Reading"));
        options.note = makeRecordingWhole(path.toStdString(), reading);
        auto opened = openRecording(path.toStdString(), reading, options);
        if (!opened) {
            if (!opened.failure().cancelled) {
                const QString sentence = QString::fromStdString(opened.failure().sentence);
                task.post([this, sentence] {
                    busy_ = false;
                    keepToExplanation();
                    emit failed(sentence);
                });
            }
            return;
        }
        const auto recording = *opened;
        task.post([show, recording] { show(recording); });
        std::shared_ptr<const FrameAccounts> accounts;
        std::shared_ptr<const Explanation> made;
        if (!recording->series.empty()) {
            accounts = accountFrames(*recording, 0, progress(task, 0.6, 0.9, tr("Accounting for every frame")));
            if (accounts) made = explain(recording, accounts, 0, progress(task, 0.9, 1, tr("Looking for causes")));
        }
        task.post([this, made] {
            busy_ = false;
            explanation_ = made;
            emit explanationChanged(true);
        });
        makeLeftRecordingsWhole();
    });
}

/// After work that came to nothing, the settings are again those of what is shown.
void Document::keepToExplanation() {
    budget_ = explanation_ ? explanation_->budget : 0;
    series_ = explanation_ ? explanation_->series : 0;
}

QString Document::whyUnexplained() const {
    if (recording_ && !recording_->whole)
        return busy_ ? tr("Reading…") : tr("Reading was cancelled. F5 opens the recording again.");
    if (!hasFrames()) return tr("This recording holds no frames. Record some with fug_frame_begin and fug_frame_end.");
    if (busy_) return tr("Working out which frames were late…");
    return tr("Explaining was cancelled. F5 opens the recording again.");
}

void Document::cancel() {
    if (!busy_) return;
    stopTask();
    keepToExplanation();
    emit cancelled();
}

void Document::explainAgain(bool fresh) {
    if (!hasFrames()) return;
    const auto known = explanation_ && explanation_->series == series_ ? explanation_->accounts : nullptr;
    // Letters stay with their causes under another budget.
    const auto previous = known ? explanation_ : nullptr;
    run([this, fresh, known, previous, recording = recording_, budget = budget_, series = series_](Task& task) {
        auto accounts = known;
        if (!accounts)
            accounts = accountFrames(*recording, series, progress(task, 0, 0.7, tr("Accounting for every frame")));
        if (!accounts) return;
        const auto made =
            explain(recording, accounts, budget, progress(task, 0.7, 1, tr("Looking for causes")), previous.get());
        task.post([this, made, fresh] {
            busy_ = false;
            explanation_ = made;
            forgetPredictions();
            emit explanationChanged(fresh);
        });
    });
}

void Document::forgetPredictions() {
    trying_.silence();
    single_.silence();
    predictions_.clear();
    prediction_.reset();
    repairs_.clear();
}

void Document::setRepairs(std::vector<Repair> repairs) {
    if (!explanation_ || repairs == repairs_) return;
    repairs_ = std::move(repairs);
    trying_.silence();
    prediction_.reset();
    emit predictionChanged();
    if (repairs_.empty()) return;
    trying_.ask(
        [e = explanation_, wanted = repairs_](const Progress& progress) { return predict(*e, wanted, progress); },
        [this](const std::shared_ptr<const Prediction>& made) {
            prediction_ = made;
            emit predictionChanged();
        });
}

void Document::toggleRepair(const Repair& repair) {
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

std::shared_ptr<const Prediction> Document::predictionOf(const Repair& repair) {
    if (!explanation_ || repair.cause >= explanation_->causes.size()) return nullptr;
    const auto key = std::pair(repair.cause, repair.gone);
    if (const auto known = predictions_.find(key); known != predictions_.end()) return known->second;
    if (single_.busy() && asked_ == repair) return nullptr;
    asked_ = repair;
    single_.ask([e = explanation_, repair](const Progress& progress) { return predict(*e, {repair}, progress); },
                [this, key](const std::shared_ptr<const Prediction>& made) {
                    predictions_[key] = made;
                    emit predictionChanged();
                });
    return nullptr;
}

/// What is kept of the recording is only a copy; where it is found damaged it is made anew.
bool Document::keptIsDamaged() const {
    return recording_ && !recording_->keptAt.empty() &&
           (recording_->storage->damaged() || (explanation_ && explanation_->accounts->storage->damaged()));
}

/// Reads on in a recording that is still being made, where it has grown, or again where what was kept of it is
/// damaged. What the person looks at stays.
void Document::follow() {
    const bool damaged = keptIsDamaged();
    if (!recording_ || !(recording_->growing || damaged) || busy_) return;
    if (damaged) {
        qInfo("fugato: the index of %s is damaged and is made anew", qPrintable(path_));
        forgetIndex(*recording_);
        growing_.reset();
    }
    const qint64 bytes = QFileInfo(path_).size();
    if (!damaged && bytes == followedBytes_ && followClock_.isValid() && followClock_.elapsed() < kLookAgainAfter)
        return following_.start(kFollowEvery);
    followedBytes_ = bytes;
    followClock_.start();
    const std::string series = recording_->series.empty() ? std::string() : recording_->series[series_].name;
    OpenOptions options = openOptions_;
    options.before = recording_;
    const std::string path = path_.toStdString();
    if (!growing_ && !damaged) growing_ = std::make_shared<Growing>(path, options);
    const auto previous = damaged ? nullptr : explanation_;
    run([this, series, options, path, previous, growing = growing_, budget = budget_](Task& task) {
        const auto goesOn = [&task](double) { return !task.cancelled(); };
        std::shared_ptr<const Recording> now;
        if (growing) {
            const std::lock_guard lock(growing->lock);
            if (!task.cancelled()) now = growing->recording.read(goesOn);
        }
        if (!now && !task.cancelled()) {  // finished, or something else has its name
            OpenOptions again = options;
            again.note = makeRecordingWhole(path, goesOn);
            if (auto opened = openRecording(path, goesOn, again)) now = *opened;
        }
        std::shared_ptr<const Explanation> made;
        uint32_t at = 0;
        if (now && !now->series.empty()) {
            for (uint32_t i = 0; i < now->series.size(); ++i)
                if (now->series[i].name == series) at = i;
            if (previous && previous->series == at && previous->budget == budget)
                made = explainFurther(now, *previous, goesOn);
            else if (const auto accounts = accountFrames(*now, at, goesOn))
                made = explain(now, accounts, budget, goesOn, previous.get());
        }
        if (task.cancelled()) return;
        task.post([this, made, at, recording = now] {
            busy_ = false;
            followTook_ = followClock_.elapsed();
            if (!recording) return following_.start(kFollowEvery);  // it may be there again in a moment
            std::vector<Repair> tried;  // what is being tried goes on with the causes it was about
            for (const Repair& repair : repairs_)
                if (const uint32_t same = made ? made->causeLike(explanation_->causes[repair.cause].key) : kNone;
                    same != kNone)
                    tried.push_back({same, repair.gone});
            recording_ = recording;
            series_ = at;
            explanation_ = made;
            forgetPredictions();
            emit recordingGrew();
            emit explanationChanged(false);
            setRepairs(std::move(tried));
        });
    });
}

void Document::setMemoryLimit(uint64_t bytes) {
    openOptions_.memoryBytes = bytes;
    if (recording_) recording_->storage->keepWithin(bytes);
    if (explanation_) explanation_->accounts->storage->keepWithin(bytes);
}

void Document::setBudget(int64_t ns) {
    if (ns == budget_) return;
    budget_ = ns;
    explainAgain(false);
}

void Document::setSeries(uint32_t series) {
    if (!hasFrames() || series >= recording_->series.size() || (series == series_ && explanation_)) return;
    series_ = series;
    explainAgain(true);
}

}  // namespace fugato
