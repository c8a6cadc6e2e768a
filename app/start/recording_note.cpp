// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_note.h"

#include <QCryptographicHash>
#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QSaveFile>

#include "app/theme/words.h"
#include "session/recordings_folder.h"

namespace fugato {

namespace {

constexpr qint64 kMostBytes = 1 << 20;

/// Empty where there is no folder for it.
QString placeOf(const QString& id) {
    const auto folder = recordingsFolder();
    if (!folder || id.isEmpty()) return {};
    const QByteArray name = QCryptographicHash::hash(id.toUtf8(), QCryptographicHash::Sha1).toHex();
    return QFileInfo(toQString(*folder)).path() + "/notes/" + QString::fromLatin1(name) + ".json";
}

}  // namespace

RecordingNote noteOf(const QString& id) {
    RecordingNote note;
    QFile file(placeOf(id));
    if (file.fileName().isEmpty() || !file.open(QIODevice::ReadOnly) || file.size() > kMostBytes) return note;
    const QJsonObject one = QJsonDocument::fromJson(file.readAll()).object();
    note.name = one["name"].toString();
    note.note = one["note"].toString();
    for (const QJsonValue& tag : one["tags"].toArray())
        if (tag.isString()) note.tags << tag.toString();
    return note;
}

bool keepNote(const QString& id, const RecordingNote& note) {
    const QString place = placeOf(id);
    if (place.isEmpty()) return false;
    if (note.empty()) return !QFile::exists(place) || QFile::remove(place);
    if (!QDir().mkpath(QFileInfo(place).path())) return false;
    QSaveFile file(place);
    if (!file.open(QIODevice::WriteOnly)) return false;
    const QJsonObject one{
        {"id", id}, {"name", note.name}, {"note", note.note}, {"tags", QJsonArray::fromStringList(note.tags)}};
    file.write(QJsonDocument(one).toJson());
    return file.commit();
}

QStringList tagsIn(const QString& text) {
    QStringList tags;
    for (const QString& part : text.split(','))
        if (const QString tag = part.simplified(); !tag.isEmpty() && !tags.contains(tag)) tags << tag;
    return tags;
}

}  // namespace fugato
