// SPDX-License-Identifier: GPL-3.0-or-later
//
// What to collect beside what the program tells itself: ready presets, and the person's own.
#pragma once

#include <QComboBox>
#include <QList>
#include <QString>
#include <string>

namespace fugato {

struct CollectPreset {
    QString name;
    QString words;  // as in FUGATO_COLLECT; empty: what is of use for the program
    QString about;
    bool own = false;  // made by the person
};

/// The ready ones first.
QList<CollectPreset> collectPresets();
/// Keeps the person's own ones of these.
void keepPresets(const QList<CollectPreset>& presets);

/// The words themselves: of what is of use for a program, all of them.
std::string collectedBy(const QString& words);
/// What these words cost on this machine, as it was measured last; empty where it was not.
QString costOf(const QString& words);
void keepCost(const QString& words, const QString& cost);

/// Puts them into a field, whose data are the words, and keeps the choice where it still is there.
void fillPresets(QComboBox& field);
/// Chooses the one of these words; where there is none, it is added under that name.
void choosePreset(QComboBox& field, const QString& words);

}  // namespace fugato
