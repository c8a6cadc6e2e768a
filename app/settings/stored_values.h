// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is remembered from one start to the next, by key, in the file of QSettings. It is read once and held in memory;
// what changes is written on another thread soon afterwards, since a disk may take its time. What another window of
// the application wrote meanwhile is taken over then, or by refresh(). Interface thread only.
#pragma once

#include <QString>
#include <QVariant>

namespace fugato::settings {

QVariant storedValue(const QString& key, const QVariant& usual = {});
void storeValue(const QString& key, const QVariant& value);
void removeValue(const QString& key);
/// Reads the file again, on another thread.
void refresh();
/// Writes what has not been written yet, and waits for that: at the end of the program.
void writeNow();
/// Forgets everything, in the file too.
void clearAll();

}  // namespace fugato::settings
