// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the person says of a recording: its name, tags and a note. Kept in the data folder under the recording's own id,
// so that copies and files that were moved have it too. Any thread.
#pragma once

#include <QString>
#include <QStringList>

namespace fugato {

struct RecordingNote {
    QString name, note;
    QStringList tags;
    bool empty() const { return name.isEmpty() && note.isEmpty() && tags.isEmpty(); }
    bool operator==(const RecordingNote&) const = default;
};

/// `id`: the recording's, or any text that stands for it.
RecordingNote noteOf(const QString& id);
/// False where it cannot be written. An empty one is removed.
bool keepNote(const QString& id, const RecordingNote& note);

/// "start-up, pier" as tags, each once.
QStringList tagsIn(const QString& text);

}  // namespace fugato
