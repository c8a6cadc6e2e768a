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

inline std::string scaled(const QTemporaryDir& folder, uint64_t markers, uint64_t seed = 1) {
    const QString file = folder.filePath(QString("scaled-%1-%2.fugato").arg(markers).arg(seed));
    QProcess process;
    process.start(SKERRY_PROGRAM,
                  {"--scale", QString::number(markers), "--seed", QString::number(seed), "--out", file});
    if (!process.waitForFinished(kPatience) || process.exitCode() != 0) qFatal("skerry --scale failed");
    return file.toStdString();
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
