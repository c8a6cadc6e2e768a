// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings of any size, made by the demo program, and opened with their index in a folder of the test. For tests
// that depend on the demo program (SKERRY_PROGRAM).
#pragma once

#include <QDir>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>

#include "opened.h"
#include "patience.h"

namespace fugato {

inline std::string writtenBySkerry(const QString& file, const QStringList& options) {
    QProcess process;
    process.start(SKERRY_PROGRAM, QStringList(options) << "--out" << file);
    if (!process.waitForFinished(kPatience) || process.exitCode() != 0) qFatal("skerry failed");
    return file.toStdString();
}

inline std::string scaled(const QTemporaryDir& folder, uint64_t markers, uint64_t seed = 1) {
    return writtenBySkerry(folder.filePath(QString("scaled-%1-%2.fugato").arg(markers).arg(seed)),
                           {"--scale", QString::number(markers), "--seed", QString::number(seed)});
}

/// A race under the virtual clock, with all that the system tells.
inline std::string raced(const QTemporaryDir& folder, int seconds) {
    return writtenBySkerry(folder.filePath("race.fugato"), {"--virtual", "--seconds", QString::number(seconds)});
}

inline OpenOptions withIndexIn(const QTemporaryDir& folder) {
    OpenOptions options;
    options.indexFolder = folder.filePath("indexes").toStdString();
    options.indexFromBytes = 0;
    return options;
}

inline QStringList indexesIn(const OpenOptions& options) {
    return QDir(QString::fromStdString(options.indexFolder)).entryList(QDir::Files, QDir::Name);
}

}  // namespace fugato
