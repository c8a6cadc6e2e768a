// SPDX-License-Identifier: GPL-3.0-or-later
//
// Whole files, for tests that change them.
#pragma once

#include <QByteArray>
#include <QFile>
#include <string>

namespace fugato {

inline QByteArray bytesOf(const std::string& path) {
    QFile file(QString::fromStdString(path));
    if (!file.open(QIODevice::ReadOnly)) qFatal("cannot read %s", path.c_str());
    return file.readAll();
}

inline void putBytes(const std::string& path, const QByteArray& bytes) {
    QFile file(QString::fromStdString(path));
    if (!file.open(QIODevice::WriteOnly | QIODevice::Truncate) || file.write(bytes) != bytes.size())
        qFatal("cannot write %s", path.c_str());
}

}  // namespace fugato
