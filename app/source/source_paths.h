// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where the source that a recording names lies here, and the person's editor. The recording tells paths of the machine
// that built the program. Interface thread, but for placeOfSource().
#pragma once

#include <QList>
#include <QString>
#include <QStringList>

namespace fugato {

/// What stands at the beginning of paths there, and the folder here that stands for it; empty: any.
struct SourceFolder {
    QString there, here;
    bool operator==(const SourceFolder&) const = default;
};
QList<SourceFolder> sourceFolders();
void setSourceFolders(const QList<SourceFolder>& folders);

/// The file here; empty where there is none. Looks at the path itself, at what the folders make of it, and in each of
/// them for its last parts. Any thread; looks at the disk.
QString placeOfSource(const QString& name, const QList<SourceFolder>& folders);

/// A command with {file}, {line} and {column}.
struct Editor {
    QString name, command;
};
/// Those that are installed, as far as they are known.
QList<Editor> installedEditors();
/// The person's, or the first that is installed; empty: none.
QString editorCommand();
/// The words of a command with the place put in; empty where the command has none.
QStringList editorWords(const QString& command, const QString& path, uint32_t line, uint32_t column);
/// Starts the editor; why not, in a sentence, or nothing.
QString openInEditor(const QString& path, uint32_t line, uint32_t column = 1);

}  // namespace fugato
