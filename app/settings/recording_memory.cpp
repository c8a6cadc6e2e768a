// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_memory.h"

#include "core/model/keys.h"
#include "stored_values.h"

namespace fugato {

namespace {

constexpr qsizetype kMost = 100;
const char* const kOrder = "recordings/order";  // ids, used last first

QString keyOf(const QString& id) { return "recordings/" + id; }

const QString kOfProgram = "program";

constexpr std::pair<const char*, ScopeChoice::Of> kLasting[] = {
    {"late", ScopeChoice::Of::Late}, {"stage", ScopeChoice::Of::Stage}, {"whole", ScopeChoice::Of::Whole}};

/// Its word, the stage, the lanes' group or program, and whether it is a program; empty: not one that lasts.
QStringList textsOf(const std::optional<ScopeChoice>& scope) {
    for (const auto& [word, of] : kLasting)
        if (scope && scope->of == of && scope->lanes != ScopeChoice::Lanes::OfMarker)
            return {word, QString::fromStdString(scope->stage), QString::fromStdString(scope->group),
                    scope->lanes == ScopeChoice::Lanes::Program ? kOfProgram : QString()};
    return {};
}

std::optional<ScopeChoice> scopeIn(const QStringList& texts) {
    for (const auto& [word, of] : kLasting) {
        if (texts.value(0) != word) continue;
        ScopeChoice scope;
        scope.of = of;
        scope.stage = texts.value(1).toStdString();
        scope.group = texts.value(2).toStdString();
        if (!scope.group.empty())
            scope.lanes = texts.value(3) == kOfProgram ? ScopeChoice::Lanes::Program : ScopeChoice::Lanes::Group;
        return scope;
    }
    return std::nullopt;
}

}  // namespace

RecordingMemory rememberedOf(const Recording& recording) {
    const QVariantMap kept = settings::storedValue(keyOf(QString::fromStdString(recordingId(recording)))).toMap();
    return {kept["page"].toString(), kept["series"].toString(), std::max<qlonglong>(0, kept["budget"].toLongLong()),
            scopeIn(kept["scope"].toStringList())};
}

void remember(const Recording& recording, const RecordingMemory& memory) {
    const QString id = QString::fromStdString(recordingId(recording));
    settings::storeValue(keyOf(id), QVariantMap{{"page", memory.page},
                                                {"series", memory.series},
                                                {"budget", memory.budget},
                                                {"scope", textsOf(memory.scope)}});
    QStringList order = settings::storedValue(kOrder).toStringList();
    if (!order.isEmpty() && order.front() == id) return;
    order.removeAll(id);
    order.prepend(id);
    while (order.size() > kMost) settings::removeValue(keyOf(order.takeLast()));
    settings::storeValue(kOrder, order);
}

}  // namespace fugato
