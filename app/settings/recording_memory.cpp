// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_memory.h"

#include <QSettings>

#include "core/model/keys.h"

namespace fugato {

namespace {

constexpr qsizetype kMost = 100;
const char* const kOrder = "recordings/order";  // ids, used last first

QString keyOf(const QString& id) { return "recordings/" + id; }

}  // namespace

RecordingMemory rememberedOf(const Recording& recording) {
    const QVariantMap kept = QSettings().value(keyOf(QString::fromStdString(recordingId(recording)))).toMap();
    return {kept["page"].toString(), kept["series"].toString(), std::max<qlonglong>(0, kept["budget"].toLongLong()),
            kept["unfolded"].toStringList()};
}

void remember(const Recording& recording, const RecordingMemory& memory) {
    const QString id = QString::fromStdString(recordingId(recording));
    QSettings kept;
    kept.setValue(keyOf(id), QVariantMap{{"page", memory.page},
                                         {"series", memory.series},
                                         {"budget", memory.budget},
                                         {"unfolded", memory.unfolded}});
    QStringList order = kept.value(kOrder).toStringList();
    if (!order.isEmpty() && order.front() == id) return;
    order.removeAll(id);
    order.prepend(id);
    while (order.size() > kMost) kept.remove(keyOf(order.takeLast()));
    kept.setValue(kOrder, order);
}

}  // namespace fugato
