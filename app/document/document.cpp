// SPDX-License-Identifier: GPL-3.0-or-later
#include "document.h"

#include <QFileInfo>
#include <algorithm>

#include "app/settings/recording_memory.h"
#include "core/model/recording_index.h"
#include "format/opening.h"
#include "loading.h"

namespace fugato {

namespace {
constexpr int kFollowEvery = 40;        // ms, from one look to the next
constexpr int kCalmEvery = 250;         // ms
constexpr int kWatchDamageEvery = 500;  // ms
constexpr int kLookAgainAfter = 2000;   // ms: a file that no longer grows may be finished
constexpr double kToldStep = 0.01;      // of progress
}  // namespace

Document::Document(QObject* parent) : QObject(parent), openOptions_(usualOpenOptions()) {
    following_.setSingleShot(true);
    following_.setTimerType(Qt::PreciseTimer);
    connect(&following_, &QTimer::timeout, this, &Document::follow);
    calm_.setSingleShot(true);
    connect(&calm_, &QTimer::timeout, this, [this] { tellCalmly(false); });
    connect(&damageWatch_, &QTimer::timeout, this, [this] {
        if (keptIsDamaged()) follow();
    });
    damageWatch_.start(kWatchDamageEvery);
    connect(this, &Document::explanationChanged, this, &Document::lookUpFunctions);
    connect(&lookingUp_, &BackgroundQuery::failed, this, &Document::failed);
    connect(this, &Document::explanationChanged, this, [this] {
        // Reading on and explaining take no more than half of the time.
        if (recording_ && recording_->growing)
            following_.start(static_cast<int>(std::max<qint64>(kFollowEvery - followTook_, followTook_)));
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

/// Progress of a task, told to the person in steps.
std::function<bool(double, const QString&)> Document::telling(Task& task) {
    return [this, &task, told = std::make_shared<double>(-1)](double part, const QString& what) {
        if (part - *told >= kToldStep) {
            *told = part;
            task.post([this, part, what] { emit progressed(part, what); });
        }
        return !task.cancelled();
    };
}

/// `first`: of it that is shown; else there is more of the same.
void Document::show(const std::shared_ptr<const Recording>& recording, const QString& path, bool first) {
    recording_ = recording;
    if (!first) {
        emit recordingGrew();
        if (!recording_->growing) tellCalmly(false);  // else when it has been explained
        return;
    }
    explanation_.reset();
    trials_.setExplanation(nullptr, false);
    path_ = path;
    budget_ = 0;
    scope_ = {};
    series_ = 0;
    emit recordingChanged();
}

void Document::show(std::shared_ptr<const Explanation> explanation, bool fresh, bool carryOver) {
    busy_ = false;
    explanation_ = std::move(explanation);
    trials_.setExplanation(explanation_, carryOver);
    emit explanationChanged(fresh);
    tellCalmly(fresh);
}

void Document::tellCalmly(bool fresh) {
    const qint64 since = calmClock_.isValid() ? calmClock_.elapsed() : kCalmEvery;
    if (growing() && !fresh && since < kCalmEvery) {
        if (!calm_.isActive()) calm_.start(static_cast<int>(kCalmEvery - since));
        return;
    }
    calm_.stop();
    calmClock_.start();
    emit calmlyChanged(fresh);
}

void Document::open(const QString& path) {
    following_.stop();
    followedBytes_ = -1;
    followTook_ = 0;
    growing_.reset();
    lookingUp_.silence();
    symbols_.reset();
    emit opening(path);
    run([this, path, options = openOptions_](Task& task) {
        const auto first = std::make_shared<bool>(true);
        auto loaded = loadRecording(
            path, options, telling(task),
            [&](const std::shared_ptr<const Recording>& recording) {
                task.post([this, recording, path, first] { show(recording, path, std::exchange(*first, false)); });
            },
            [](const Recording& recording) {
                const RecordingMemory before = rememberedOf(recording);
                return std::pair(before.series.toStdString(), before.budget);
            });
        if (!loaded) {
            if (loaded.failure().cancelled) return;
            const QString sentence = QString::fromStdString(loaded.failure().sentence);
            task.post([this, sentence] {
                busy_ = false;
                keepToExplanation();
                emit failed(sentence);
            });
            return;
        }
        task.post([this, made = loaded->explanation] {
            explanation_ = made;
            keepToExplanation();  // it may be of a remembered series and budget
            show(made, true, false);
        });
        makeLeftRecordingsWhole();
    });
}

/// After work that came to nothing, the settings are again those of what is shown.
void Document::keepToExplanation() {
    budget_ = explanation_ ? explanation_->budget : 0;
    scope_ = explanation_ ? explanation_->scope : ExplainScope();
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
    // Letters stay with their causes under another budget.
    const auto previous = explanation_ && explanation_->series == series_ ? explanation_ : nullptr;
    run([this, fresh, previous, recording = recording_, series = series_,
         options = ExplainOptions(budget_, symbols_, scope_)](Task& task) {
        const auto made = explainSeries(recording, series, options, previous ? previous->pathSums : nullptr,
                                        previous.get(), telling(task));
        if (made) task.post([this, made, fresh] { show(made, fresh, false); });
    });
}

/// Call stacks name functions only when these have been looked up, which may take its time: so all else is shown first.
void Document::lookUpFunctions() {
    if (!recording_ || recording_->growing || !recording_->stackCount() || symbols_ || lookingUp_.busy()) return;
    lookingUp_.ask([recording = recording_, folder = openOptions_.indexFolder](
                       const Progress& progress) { return symbolsOf(*recording, folder, progress); },
                   [this](const std::shared_ptr<const Symbols>& symbols) {
                       symbols_ = symbols;
                       emit symbolsChanged();
                       if (explanation_) explainAgain(false);
                   });
}

/// What is kept of the recording is only a copy; where it is found damaged it is made anew.
bool Document::keptIsDamaged() const {
    return recording_ && !recording_->keptAt.empty() &&
           (recording_->storage->damaged() || (explanation_ && explanation_->pathSums->storage->damaged()));
}

/// Reads on in a recording that is still being made, where it has grown, or again where what was kept of it is
/// damaged. What the person looks at stays.
void Document::follow() {
    const bool damaged = keptIsDamaged();
    if (!recording_ || !(recording_->growing || damaged) || busy_) return;
    if (damaged) {
        qInfo("fugato: the index of %s is damaged and is built again", qPrintable(path_));
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
    if (!growing_ && !damaged) growing_ = std::make_shared<GrowingFile>(path_.toStdString(), options);
    const auto previous = damaged ? nullptr : explanation_;
    run([this, series, options, previous, path = path_, growing = growing_,
         wanted = ExplainOptions(budget_, symbols_, scope_)](Task& task) {
        const auto now = loadFurther(growing, path, options, series, previous, wanted,
                                     [&task](double) { return !task.cancelled(); });
        task.post([this, now, series] {
            busy_ = false;
            followTook_ = followClock_.elapsed();
            if (!now.recording) return following_.start(kFollowEvery);  // it may be there again in a moment
            series_ = seriesNamed(*now.recording, series);
            show(now.recording, path_, false);
            show(now.explanation, false, true);
        });
    });
}

void Document::setMemoryLimit(uint64_t bytes) {
    openOptions_.memoryBytes = bytes;
    if (recording_) recording_->storage->keepWithin(bytes);
    if (explanation_) explanation_->pathSums->storage->keepWithin(bytes);
}

void Document::setBudget(int64_t ns) {
    if (ns == budget_) return;
    budget_ = ns;
    explainAgain(false);
}

void Document::setScope(const ExplainScope& scope) {
    if (scope == scope_) return;
    scope_ = scope;
    explainAgain(true);
}

void Document::setSeries(uint32_t series) {
    if (!hasFrames() || series >= recording_->series.size() || (series == series_ && explanation_)) return;
    series_ = series;
    explainAgain(true);
}

}  // namespace fugato
