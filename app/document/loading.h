// SPDX-License-Identifier: GPL-3.0-or-later
//
// The work of a document, without its state: opening and explaining a recording, explaining it anew, reading on in one
// that grows. Each function is called by a task, on its thread, and owns what it uses.
#pragma once

#include <QString>
#include <fugato_mutex.hpp>
#include <functional>
#include <memory>

#include "core/explain/model/explanation.h"
#include "core/model/growing_recording.h"
#include "format/result.h"

namespace fugato {

/// How far work is, in words for the person; false where it is to stop.
using Telling = std::function<bool(double part, const QString& what)>;

struct Loaded {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Explanation> explanation;  // null where there are no frames, or it was cancelled
};

/// Makes a killed program's recording whole, opens it and explains a series of it. `shown` is called as soon as a
/// part of the recording can be displayed, and again when all of it is read (`whole`).
/// `wanted`: which series is explained then, and with which budget.
Result<Loaded> loadRecording(const QString& path, OpenOptions options, const Telling& tell,
                             const std::function<void(std::shared_ptr<const Recording>, bool whole)>& shown,
                             const std::function<std::pair<std::string, int64_t>(const Recording&)>& wanted);

/// Explains a series. `known`: its pathSums, where there are any; `previous`: so that causes keep their letters.
std::shared_ptr<const Explanation> explainSeries(const std::shared_ptr<const Recording>& recording, uint32_t series,
                                                 const ExplainOptions& options,
                                                 std::shared_ptr<const CriticalPathSums> known,
                                                 const Explanation* previous, const Telling& tell);

/// A recording that is read on. Reading is done by one task after another; one that was cancelled may still be at it.
struct GrowingFile {
    Mutex mutex;
    GrowingRecording recording FUGATO_GUARDED_BY(mutex);
    GrowingFile(const std::string& path, const OpenOptions& options) : recording(path, options) {}
};

/// What a recording that grows has become, or one whose index was damaged (`growing` is null then). Nothing where it
/// cannot be read at this moment. `series`: the name of the one that is explained.
Loaded loadFurther(const std::shared_ptr<GrowingFile>& growing, const QString& path, OpenOptions options,
                   const std::string& series, const std::shared_ptr<const Explanation>& previous,
                   const ExplainOptions& wanted, const Progress& goesOn);
/// The series of that name; the first one where there is none.
uint32_t seriesNamed(const Recording& recording, const std::string& name);

}  // namespace fugato
