// SPDX-License-Identifier: GPL-3.0-or-later
#include "document.h"

#include <QFileInfo>
#include <QGuiApplication>
#include <algorithm>

#include "app/settings/recording_memory.h"
#include "core/model/recording_index.h"
#include "format/opening.h"
#include "loading.h"

namespace fugato {

namespace {
constexpr int kLookEvery = 50;         // ms, from one look for new frames to the next
constexpr int kLookBesideEvery = 120;  // ms, while no window of ours has the keyboard
constexpr int kExplainEvery = 500;     // ms, at least, from one time that what has come is explained to the next
constexpr int kExplainPart = 40, kDetailsPart = 100;  // of the time
constexpr int kDetailsEvery = 1000;                   // ms
constexpr int kWatchDamageEvery = 500;                // ms
constexpr int kLookAgainAfter = 2000;                 // ms: a file that no longer grows may be finished
constexpr double kToldStep = 0.01;                    // of progress
/// While the person is in another program, most likely the one that is recorded, that one gets the time.
int lookEvery() { return QGuiApplication::applicationState() == Qt::ApplicationActive ? kLookEvery : kLookBesideEvery; }
}  // namespace

Document::Document(QObject* parent)
    : QObject(parent),
      openOptions_(usualOpenOptions()),
      explaining_(kExplainEvery, kExplainPart),
      details_(kDetailsEvery, kDetailsPart) {
    following_.setSingleShot(true);
    following_.setTimerType(Qt::PreciseTimer);
    connect(&following_, &QTimer::timeout, this, &Document::follow);
    connect(&damageWatch_, &QTimer::timeout, this, [this] {
        if (keptIsDamaged()) follow();
    });
    damageWatch_.start(kWatchDamageEvery);
    connect(this, &Document::explanationChanged, this, &Document::lookUpFunctions);
    connect(&lookingUp_, &BackgroundQuery::failed, this, &Document::failed);
    connect(&readingFrames_, &BackgroundQuery::failed, this, &Document::failed);
    connect(this, &Document::explanationChanged, this, [this] {
        if (recording_ && recording_->growing && !following_.isActive()) following_.start(lookEvery());
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

/// `whole`: no lane is missing. `first`: of it that is shown; else there is more of the same.
void Document::show(const std::shared_ptr<const Recording>& recording, bool whole, const QString& path, bool first) {
    recording_ = recording;
    reading_ = !whole;
    if (!first) {
        emit recordingGrew();
        if (!recording_->growing) tellContent(false);  // else when it has been explained
        return;
    }
    ++opened_;
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
    // Of the new frames, those stay that are not explained yet.
    const bool grown =
        carryOver && explanation && explanation_ && explanation->frames.size() >= explanation_->frames.size();
    const size_t explained = grown ? explanation->frames.size() - explanation_->frames.size() : newFrames_.size();
    newFrames_.erase(newFrames_.begin(),
                     newFrames_.begin() + static_cast<std::ptrdiff_t>(std::min(newFrames_.size(), explained)));
    explanation_ = std::move(explanation);
    trials_.setExplanation(explanation_, carryOver);
    emit explanationChanged(fresh);
    tellContent(fresh);
}

void Document::tellContent(bool fresh) {
    emit contentChanged(fresh);
    if (growing() && !fresh && !details_.due()) return;
    details_.begun();
    emit detailsChanged();
    details_.done();
}

void Document::open(const QString& path) {
    following_.stop();
    explainedBytes_ = -1;
    explaining_.restart();
    growing_.reset();
    readingFrames_.silence();
    newFrames_.clear();
    lookingUp_.silence();
    symbols_.reset();
    emit opening(path);
    run([this, path, options = openOptions_](Task& task) {
        const auto first = std::make_shared<bool>(true);
        auto loaded = loadRecording(
            path, options, telling(task),
            [&](const std::shared_ptr<const Recording>& recording, bool whole) {
                task.post([this, recording = freedElsewhere(recording), whole, path, first] {
                    show(recording, whole, path, std::exchange(*first, false));
                });
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
        task.post([this, made = freedElsewhere(loaded->explanation)] {
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
    if (reading_) return busy_ ? tr("Reading…") : tr("Reading was cancelled. F5 opens the recording again.");
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

void Document::explainAgain(bool fresh, bool carryOver) {
    if (!hasFrames()) return;
    // Letters stay with their causes under another budget.
    const auto previous = explanation_ && explanation_->series == series_ ? explanation_ : nullptr;
    run([this, fresh, carryOver, previous, recording = recording_, series = series_,
         options = ExplainOptions(budget_, symbols_, scope_)](Task& task) {
        const auto made = explainSeries(recording, series, options, previous ? previous->pathSums : nullptr,
                                        previous.get(), telling(task));
        if (made) task.post([this, made = freedElsewhere(made), fresh, carryOver] { show(made, fresh, carryOver); });
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
                       if (explanation_) explainAgain(false, true);
                   });
}

/// What is kept of the recording is only a copy; where it is found damaged it is made anew.
bool Document::keptIsDamaged() const {
    return recording_ && recording_->fileState &&
           (recording_->storage->damaged() || (explanation_ && explanation_->pathSums->storage->damaged()));
}

/// Looks for more of a recording that is still being made, or reads it again where what was kept of it is damaged. What
/// the person looks at stays.
void Document::follow() {
    const bool damaged = keptIsDamaged();
    if (!recording_ || !(recording_->growing || damaged)) return;
    if (recording_->growing) following_.start(lookEvery());
    if (damaged) {
        if (busy_) return;
        qInfo("fugato: the index of %s is damaged and is built again", qPrintable(path_));
        forgetIndex(*recording_);
        growing_.reset();
        return explainFurther(true);
    }
    const qint64 bytes = QFileInfo(path_).size();
    const bool due = explaining_.due() && (bytes != explainedBytes_ || explaining_.since() >= kLookAgainAfter);
    if (due && !busy_)
        explainFurther(false);
    else if (bytes != lookedBytes_)
        readNewFrames();
    lookedBytes_ = bytes;
}

void Document::explainFurther(bool damaged) {
    explainedBytes_ = QFileInfo(path_).size();
    explaining_.begun();
    const std::string series = recording_->series.empty() ? std::string() : recording_->series[series_].name;
    OpenOptions options = openOptions_;
    options.before = recording_;
    if (!growing_ && !damaged) growing_ = std::make_shared<GrowingFile>(path_.toStdString(), options);
    const auto previous = damaged ? nullptr : explanation_;
    run([this, series, options, previous, path = path_, growing = growing_,
         wanted = ExplainOptions(budget_, symbols_, scope_)](Task& task) {
        auto now = loadFurther(growing, path, options, series, previous, wanted,
                               [&task](double) { return !task.cancelled(); });
        now = {freedElsewhere(now.recording), freedElsewhere(now.explanation)};
        task.post([this, now, series] {
            busy_ = false;
            if (!now.recording) return;  // it may be there again in a moment
            series_ = seriesNamed(*now.recording, series);
            show(now.recording, true, path_, false);
            show(now.explanation, false, true);
            explaining_.done();
        });
    });
}

/// The frames that came since, for the strip: quicker than explaining them.
void Document::readNewFrames() {
    if (!growing_ || !explanation_ || readingFrames_.busy()) return;
    readingFrames_.ask(
        [growing = growing_, e = explanation_](const Progress&) -> std::shared_ptr<const std::vector<NewFrame>> {
            if (!growing->mutex.try_lock()) return nullptr;
            const Lock lock(growing->mutex, std::adopt_lock);
            return growing->recording.readFrames(e->frames.size(), e->recording->series[e->series].name);
        },
        [this, e = explanation_](const std::shared_ptr<const std::vector<NewFrame>>& frames) {
            if (e != explanation_) return;  // they are explained meanwhile, or of another series
            newFrames_ = *frames;
            emit newFramesChanged();
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
