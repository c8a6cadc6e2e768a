// SPDX-License-Identifier: GPL-3.0-or-later
#include "collect_presets.h"

#include <QCoreApplication>
#include <QJsonDocument>
#include <QJsonObject>
#include <algorithm>

#include "app/settings/settings.h"

namespace fugato {

namespace {

QString tr(const char* words) { return QCoreApplication::translate("fugato::CollectPresets", words); }

QList<CollectPreset> ready() {
    return {
        {tr("Everything of use"), "",
         tr("frames, waits and files; and from the system which thread ran when, and call stacks")},
        {tr("Threads and waits"), "switches,load",
         tr("frames, waits and files; and from the system which thread ran when, without call stacks")},
        {tr("Call stacks"), "samples,stack-copies,blocking,switches",
         tr("frames, waits and files; and from the system call stacks where threads run and where they block")},
        {tr("Memory"), "switches,memory",
         tr("frames, waits and files; what an unmodified program allocates, and in which marker; and from the system "
            "which thread ran when")},
        {tr("Lean"), "none", tr("what the program itself does, and nothing from the system")}};
}

}  // namespace

QList<CollectPreset> collectPresets() {
    QList<CollectPreset> all = ready();
    for (const QString& kept : settings::collectPresets().get()) {
        const QJsonObject one = QJsonDocument::fromJson(kept.toUtf8()).object();
        if (const QString name = one["name"].toString(); !name.isEmpty())
            all << CollectPreset{name, one["words"].toString(), tr("your own"), true};
    }
    return all;
}

void keepPresets(const QList<CollectPreset>& presets) {
    QStringList kept;
    for (const CollectPreset& one : presets)
        if (one.own)
            kept << QJsonDocument(QJsonObject{{"name", one.name}, {"words", one.words}}).toJson(QJsonDocument::Compact);
    settings::collectPresets().set(kept);
}

std::string collectedBy(const QString& words) {
    return words.isEmpty() ? "switches,samples,stack-copies,blocking,load" : words.toStdString();
}

QString costOf(const QString& words) {
    return settings::collectCost(QString::fromStdString(collectedBy(words)).replace(',', '+')).get();
}

void keepCost(const QString& words, const QString& cost) {
    settings::collectCost(QString::fromStdString(collectedBy(words)).replace(',', '+')).set(cost);
}

void fillPresets(QComboBox& field) {
    const QString before = field.currentData().toString();
    const bool any = field.count() > 0;
    field.clear();
    for (const CollectPreset& one : collectPresets()) {
        field.addItem(one.name, one.words);
        field.setItemData(field.count() - 1, one.about, Qt::ToolTipRole);
    }
    if (any) field.setCurrentIndex(std::max(0, field.findData(before)));
}

void choosePreset(QComboBox& field, const QString& words) {
    if (field.findData(words) < 0) field.addItem(words, words);
    field.setCurrentIndex(field.findData(words));
}

}  // namespace fugato
