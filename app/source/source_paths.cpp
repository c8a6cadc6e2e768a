// SPDX-License-Identifier: GPL-3.0-or-later
#include "source_paths.h"

#include <QCoreApplication>
#include <QDir>
#include <QFileInfo>
#include <QProcess>
#include <QStandardPaths>

#include "app/settings/settings.h"
#include "app/theme/words.h"

namespace fugato {

namespace {

QString tr(const char* text) { return QCoreApplication::translate("SourcePaths", text); }

bool isFile(const QString& path) { return QFileInfo(path).isFile(); }

}  // namespace

QList<SourceFolder> sourceFolders() {
    QList<SourceFolder> folders;
    const QStringList kept = settings::sourceFolders().get();
    for (qsizetype i = 0; i + 1 < kept.size(); i += 2) folders << SourceFolder{kept[i], kept[i + 1]};
    return folders;
}

void setSourceFolders(const QList<SourceFolder>& folders) {
    QStringList kept;
    for (const SourceFolder& folder : folders) kept << folder.there << folder.here;
    settings::sourceFolders().set(kept);
}

QString placeOfSource(const QString& name, const QList<SourceFolder>& folders) {
    if (name.isEmpty()) return {};
    for (const SourceFolder& folder : folders)
        if (!folder.there.isEmpty() && name.startsWith(folder.there))
            if (const QString path = QDir::cleanPath(folder.here + "/" + name.mid(folder.there.size())); isFile(path))
                return path;
    if (QFileInfo(name).isAbsolute() && isFile(name)) return QDir::cleanPath(name);
    QStringList parts = QDir::cleanPath(name).split('/', Qt::SkipEmptyParts);
    for (; !parts.isEmpty(); parts.removeFirst())  // the longest end of the path that is there
        for (const SourceFolder& folder : folders)
            if (const QString path = QDir::cleanPath(folder.here + "/" + parts.join('/')); isFile(path)) return path;
    return {};
}

QList<Editor> installedEditors() {
    static const std::pair<const char*, const char*> kKnown[] = {
        {"kate", "kate -l {line} -c {column} {file}"},
        {"kwrite", "kwrite -l {line} -c {column} {file}"},
        {"gnome-text-editor", "gnome-text-editor {file}"},
        {"gedit", "gedit {file} +{line}:{column}"},
        {"geany", "geany -l {line} --column {column} {file}"},
        {"code", "code -g {file}:{line}:{column}"},
        {"codium", "codium -g {file}:{line}:{column}"},
        {"subl", "subl {file}:{line}:{column}"},
        {"qtcreator", "qtcreator -client {file}:{line}:{column}"},
        {"clion", "clion --line {line} {file}"},
        {"emacsclient", "emacsclient -n +{line}:{column} {file}"},
        {"gvim", "gvim +{line} {file}"},
        {"xdg-open", "xdg-open {file}"}};
    QList<Editor> found;
    for (const auto& [name, command] : kKnown)
        if (!QStandardPaths::findExecutable(name).isEmpty()) found << Editor{name, command};
    return found;
}

QString editorCommand() {
    if (const QString own = settings::editorCommand().get(); !own.trimmed().isEmpty()) return own;
    const QList<Editor> found = installedEditors();
    return found.isEmpty() ? QString() : found.front().command;
}

QStringList editorWords(const QString& command, const QString& path, uint32_t line, uint32_t column) {
    QStringList words = QProcess::splitCommand(command);
    bool told = false;
    for (QString& word : words) {
        told = told || word.contains("{file}");
        // At once, so that what a path holds is not taken for one of them.
        QString out;
        for (qsizetype at = 0; at < word.size();) {
            const auto is = [&](const char* what) { return QStringView(word).mid(at).startsWith(QLatin1String(what)); };
            if (is("{file}"))
                out += path, at += 6;
            else if (is("{line}"))
                out += QString::number(std::max(1u, line)), at += 6;
            else if (is("{column}"))
                out += QString::number(column), at += 8;
            else
                out += word[at++];
        }
        word = out;
    }
    if (!words.isEmpty() && !told) words << path;
    return words;
}

QString openInEditor(const QString& path, uint32_t line, uint32_t column) {
    QStringList words = editorWords(editorCommand(), path, line, column);
    if (words.isEmpty())
        return tr("No editor is known. Go ▸ Source ▸ Source and editor… takes the command that starts yours.");
    const QString program = words.takeFirst();
    if (QProcess::startDetached(program, words)) return {};
    return tr("%1 could not be started. Go ▸ Source ▸ Source and editor… takes the command that starts your editor.")
        .arg(shown(program));
}

}  // namespace fugato
