// SPDX-License-Identifier: GPL-3.0-or-later
#include "loading.h"

#include "core/explain/causes/growing.h"
#include "format/opening.h"

namespace fugato {

namespace {

/// A part of the whole, from `from` to `to`.
Progress partOf(const Telling& tell, double from, double to, const QString& what) {
    return [tell, from, to, what](double part) { return tell(from + (to - from) * part, what); };
}

QString walking() { return QObject::tr("Accounting for every frame"); }
QString looking() { return QObject::tr("Looking for causes"); }

}  // namespace

Result<Loaded> loadRecording(const QString& path, OpenOptions options, const Telling& tell,
                             const std::function<void(std::shared_ptr<const Recording>, bool whole)>& shown,
                             const std::function<std::pair<std::string, int64_t>(const Recording&)>& wanted) {
    options.early = [&shown](std::shared_ptr<const Recording> part) { shown(std::move(part), false); };
    const Progress reading = partOf(tell, 0, 0.6, QObject::tr("Reading"));
    options.note = makeRecordingWhole(path.toStdString(), reading);
    auto opened = openRecording(path.toStdString(), reading, options);
    if (!opened) return opened.failure();
    Loaded loaded{*opened, nullptr};
    shown(loaded.recording, true);
    if (loaded.recording->series.empty()) return loaded;
    const auto [name, budget] = wanted(*loaded.recording);
    const uint32_t series = seriesNamed(*loaded.recording, name);
    if (const auto pathSums = sumCriticalPaths(*loaded.recording, series, partOf(tell, 0.6, 0.9, walking())))
        loaded.explanation = explain(loaded.recording, pathSums, budget, partOf(tell, 0.9, 1, looking()));
    return loaded;
}

std::shared_ptr<const Explanation> explainSeries(const std::shared_ptr<const Recording>& recording, uint32_t series,
                                                 const ExplainOptions& options,
                                                 std::shared_ptr<const CriticalPathSums> known,
                                                 const Explanation* previous, const Telling& tell) {
    if (!known) known = sumCriticalPaths(*recording, series, partOf(tell, 0, 0.7, walking()));
    return known ? explain(recording, known, options, partOf(tell, 0.7, 1, looking()), previous) : nullptr;
}

uint32_t seriesNamed(const Recording& recording, const std::string& name) {
    for (uint32_t i = 0; i < recording.series.size(); ++i)
        if (recording.series[i].name == name) return i;
    return 0;
}

Loaded loadFurther(const std::shared_ptr<GrowingFile>& growing, const QString& path, OpenOptions options,
                   const std::string& series, const std::shared_ptr<const Explanation>& previous,
                   const ExplainOptions& wanted, const Progress& goesOn) {
    Loaded now;
    if (growing) {
        const Lock lock(growing->mutex);
        if (goesOn(0)) now.recording = growing->recording.read(goesOn);
    }
    if (!now.recording && goesOn(0)) {  // finished, or something else has its name
        options.note = makeRecordingWhole(path.toStdString(), goesOn);
        if (auto opened = openRecording(path.toStdString(), goesOn, options)) now.recording = *opened;
    }
    if (!now.recording || now.recording->series.empty()) return now;
    const uint32_t at = seriesNamed(*now.recording, series);
    if (previous && previous->series == at && previous->budget == wanted.budget && previous->scope == wanted.scope)
        now.explanation = explainIncrementally(now.recording, *previous, goesOn);
    else if (const auto pathSums = sumCriticalPaths(*now.recording, at, goesOn))
        now.explanation = explain(now.recording, pathSums, wanted, goesOn, previous.get());
    return now;
}

}  // namespace fugato
