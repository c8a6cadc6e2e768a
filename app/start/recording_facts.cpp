// SPDX-License-Identifier: GPL-3.0-or-later
#include "recording_facts.h"

#include <QCryptographicHash>
#include <QDir>
#include <QFileInfo>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QSaveFile>
#include <QStandardPaths>

#include "app/theme/words.h"
#include "core/explain/causes/explain.h"
#include "core/explain/words/sentences.h"
#include "format/opening.h"

namespace fugato {

namespace {

constexpr qint64 kLargeBytes = 100'000'000;
constexpr size_t kColumns = 120;
constexpr int kVersion = 2;  // of what is cached

QString cachedAt(const QFileInfo& file) {
    const QString what = QString("%1 %2 %3 %4")
                             .arg(kVersion)
                             .arg(file.absoluteFilePath())
                             .arg(file.size())
                             .arg(file.lastModified().toMSecsSinceEpoch());
    return QStandardPaths::writableLocation(QStandardPaths::CacheLocation) + "/facts/" +
           QCryptographicHash::hash(what.toUtf8(), QCryptographicHash::Sha1).toHex() + ".json";
}

std::shared_ptr<RecordingFacts> cached(const QString& at) {
    QFile file(at);
    if (!file.open(QIODevice::ReadOnly)) return nullptr;
    const QJsonObject one = QJsonDocument::fromJson(file.readAll()).object();
    if (one.isEmpty()) return nullptr;
    auto facts = std::make_shared<RecordingFacts>();
    facts->program = one["program"].toString();
    facts->build = one["build"].toString();
    facts->id = one["id"].toString();
    facts->because = one["because"].toString();
    facts->started = QDateTime::fromMSecsSinceEpoch(one["started_ms"].toInteger());
    facts->length = one["length_ns"].toInteger();
    facts->frames = one["frames"].toInteger();
    facts->over = one["over"].toInteger();
    facts->cause = one["cause"].toString();
    for (const QJsonValue& value : one["strip"].toArray())
        facts->strip.push_back(std::clamp(static_cast<float>(value.toDouble()), -1.0f, 1e6f));
    return facts;
}

void cache(const QString& at, const RecordingFacts& facts) {
    QJsonArray strip;
    for (const float value : facts.strip) strip << static_cast<double>(value);
    const QJsonObject one{{"id", facts.id},
                          {"because", facts.because},
                          {"program", facts.program},
                          {"build", facts.build},
                          {"started_ms", facts.started.toMSecsSinceEpoch()},
                          {"length_ns", facts.length},
                          {"frames", facts.frames},
                          {"over", facts.over},
                          {"cause", facts.cause},
                          {"strip", strip}};
    QDir().mkpath(QFileInfo(at).path());
    QSaveFile file(at);
    if (file.open(QIODevice::WriteOnly)) {
        file.write(QJsonDocument(one).toJson(QJsonDocument::Compact));
        file.commit();
    }
}

std::vector<float> stripOf(const Explanation& e) {
    const size_t frames = e.frames.size(), columns = std::min(frames, kColumns);
    std::vector<float> strip(columns, -1.0f);
    for (size_t i = 0; i < frames; ++i) {
        const FrameVerdict& frame = e.frames[i];
        if (frame.deadline <= 0) continue;
        const int64_t over = frame.overrun > 0 ? frame.overrun : std::min<int64_t>(0, frame.work - frame.deadline);
        float& column = strip[i * columns / frames];
        column = std::max(column, static_cast<float>(static_cast<double>(over) / static_cast<double>(frame.deadline)));
    }
    return strip;
}

}  // namespace

bool takesLong(const QString& path) {
    const QFileInfo file(path);
    return file.size() > kLargeBytes && !QFileInfo::exists(cachedAt(file));
}

std::shared_ptr<const RecordingFacts> recordingFacts(const QString& path, const Progress& progress) {
    if (auto known = cached(cachedAt(QFileInfo(path)))) {
        known->note = noteOf(known->id);
        return known;
    }
    makeRecordingWhole(path.toStdString(), progress);  // of a program that was killed
    const QString at = cachedAt(QFileInfo(path));
    auto facts = std::make_shared<RecordingFacts>();
    const auto opened = openRecording(path.toStdString(), progress, usualOpenOptions());
    if (!opened) {
        if (opened.failure().cancelled) return nullptr;
        facts->trouble = toQString(opened.failure().sentence);
        return facts;
    }
    const Recording& r = **opened;
    const auto fact = [&](const char* key) {
        const auto found = r.context.find(key);
        return found == r.context.end() ? QString() : toQString(found->second);
    };
    facts->program = fact("program");
    facts->build = fact("build");
    facts->because = fact("saved because");
    facts->id = fact(layout::kRecordingIdKey);
    if (facts->id.isEmpty()) facts->id = QFileInfo(path).absoluteFilePath();
    facts->note = noteOf(facts->id);
    facts->started = QDateTime::fromMSecsSinceEpoch(r.startedUnixNs / 1'000'000);
    facts->length = r.end - r.begin;
    facts->growing = r.growing;
    for (uint32_t series = 0; series < r.series.size(); ++series) {
        if (r.series[series].frames.empty()) continue;
        const auto sums = sumCriticalPaths(r, series, progress);
        const auto e = sums ? explain(*opened, sums, {}, progress) : nullptr;
        if (!e) return nullptr;
        facts->frames = static_cast<qint64>(e->figures.frames);
        facts->over = static_cast<qint64>(e->figures.over);
        if (!e->causes.empty())
            facts->cause = toQString(e->causes[0].letter) + "  " + toQString(causeTitle(*e, e->causes[0]));
        facts->strip = stripOf(*e);
        break;
    }
    if (!facts->growing) cache(at, *facts);
    return facts;
}

}  // namespace fugato
