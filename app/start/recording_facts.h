// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the list of recordings tells of each: worked out once, on any thread, and cached beside the indexes until the
// file changes.
#pragma once

#include <QDateTime>
#include <QString>
#include <memory>
#include <vector>

#include "core/model/open_recording.h"
#include "recording_note.h"

namespace fugato {

struct RecordingFacts {
    QString program, build;
    QString id;          // the recording's own; its path where it has none
    QString because;     // why it was saved, where it is a moment
    RecordingNote note;  // what the person says of it
    QDateTime started;
    qint64 length = 0;            // ns
    qint64 frames = 0, over = 0;  // of its first series
    QString cause;                // the costliest, with its letter; empty: none
    QString trouble;              // why it cannot be told; empty where it can
    bool growing = false;         // its program still runs
    /// Over the frames in equal parts: by how much of a deadline the worst frame of each was over it (above 0), or
    /// stayed below (down to −1).
    std::vector<float> strip;
};

/// From the cache, else by opening and explaining it. Null where `progress` cancelled it.
std::shared_ptr<const RecordingFacts> recordingFacts(const QString& path, const Progress& progress);
/// Whether that would take long.
bool takesLong(const QString& path);

}  // namespace fugato
