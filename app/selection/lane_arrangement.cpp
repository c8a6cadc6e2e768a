// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_arrangement.h"

#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <algorithm>
#include <unordered_map>

#include "app/settings/settings.h"
#include "app/theme/words.h"
#include "core/model/keys.h"
#include "core/model/lane_order.h"

namespace fugato {

namespace {

constexpr std::pair<LaneOrder, const char*> kOrders[] = {{LaneOrder::Recorded, "recorded"},
                                                         {LaneOrder::Activity, "activity"},
                                                         {LaneOrder::Part, "part"},
                                                         {LaneOrder::Own, "own"}};

template <class Texts>
QJsonArray listOf(const Texts& texts) {
    QJsonArray list;
    for (const std::string& text : texts) list.append(toQString(text));
    return list;
}

std::vector<std::string> textsIn(const QJsonValue& value) {
    std::vector<std::string> texts;
    for (const QJsonValue& one : value.toArray())
        if (one.isString()) texts.push_back(one.toString().toStdString());
    return texts;
}

std::vector<uint32_t> inOrderOfPlaces(std::vector<std::pair<size_t, uint32_t>> placed) {
    std::stable_sort(placed.begin(), placed.end(), [](const auto& x, const auto& y) { return x.first < y.first; });
    std::vector<uint32_t> order;
    for (const auto& [place, lane] : placed) order.push_back(lane);
    return order;
}

/// Lanes with the same word stand where the first of them does; those without one stay where they are.
template <class WordOf>
void bringTogether(std::vector<uint32_t>& order, WordOf&& wordOf) {
    std::unordered_map<std::string, size_t> first;
    std::vector<std::pair<size_t, uint32_t>> placed;
    for (size_t i = 0; i < order.size(); ++i) {
        const std::string word = wordOf(order[i]);
        placed.emplace_back(word.empty() ? i : first.try_emplace(word, i).first->second, order[i]);
    }
    order = inOrderOfPlaces(std::move(placed));
}

std::set<std::string> setIn(const QJsonValue& value) {
    const auto texts = textsIn(value);
    return {texts.begin(), texts.end()};
}

}  // namespace

QByteArray jsonOf(const LaneArrangement& a) {
    QJsonObject tints;
    for (const auto& [what, tint] : a.tints) tints[toQString(what)] = tint;
    const auto order =
        std::find_if(std::begin(kOrders), std::end(kOrders), [&](const auto& o) { return o.first == a.order; });
    return QJsonDocument(QJsonObject{{"order", order->second},
                                     {"by role", a.byRole},
                                     {"by program", a.byProgram},
                                     {"own", listOf(a.own)},
                                     {"hidden", listOf(a.hidden)},
                                     {"pinned", listOf(a.pinned)},
                                     {"folded", listOf(a.folded)},
                                     {"unfolded", listOf(a.unfolded)},
                                     {"tints", tints}})
        .toJson(QJsonDocument::Compact);
}

LaneArrangement arrangementIn(const QByteArray& json) {
    const QJsonObject kept = QJsonDocument::fromJson(json).object();
    LaneArrangement a;
    for (const auto& [order, word] : kOrders)
        if (kept["order"].toString() == word) a.order = order;
    a.byRole = kept["by role"].toBool();
    a.byProgram = kept["by program"].toBool();
    a.own = textsIn(kept["own"]);
    a.hidden = setIn(kept["hidden"]);
    a.pinned = setIn(kept["pinned"]);
    a.folded = setIn(kept["folded"]);
    a.unfolded = setIn(kept["unfolded"]);
    const QJsonObject tints = kept["tints"].toObject();
    for (auto tint = tints.begin(); tint != tints.end(); ++tint)
        if (tint->toInt() > 0) a.tints[tint.key().toStdString()] = tint->toInt();
    return a;
}

LaneKeys::LaneKeys(const Recording& recording) : lanes(laneKeys(recording)) {
    for (uint32_t group = 0; group < recording.groups.size(); ++group) groups.push_back(groupKey(recording, group));
}

std::vector<uint32_t> orderOf(const Recording& r, const LaneKeys& keys, const LaneArrangement& a,
                              const std::vector<int64_t>& weights) {
    std::vector<uint32_t> order = lanesInOrder(r);
    if (a.order == LaneOrder::Own) {
        std::unordered_map<std::string, size_t> places;
        for (const std::string& key : a.own) places.emplace(key, places.size());
        // One that was never placed stays where it is recorded: behind the one before it.
        std::vector<std::pair<size_t, uint32_t>> placed;
        size_t before = 0;
        for (const uint32_t lane : order) {
            const auto place = places.find(keys.lanes[lane]);
            before = place == places.end() ? before : place->second + 1;
            placed.emplace_back(before, lane);
        }
        order = inOrderOfPlaces(std::move(placed));
    } else if (a.order != LaneOrder::Recorded && weights.size() == r.lanes.size()) {
        std::stable_sort(order.begin(), order.end(), [&](uint32_t x, uint32_t y) { return weights[x] > weights[y]; });
    }
    // Lanes of a role that is folded, or of every role, stand where the first of them does.
    bringTogether(order, [&](uint32_t lane) {
        const uint32_t group = r.lanes[lane].group;
        const bool together = group < keys.groups.size() && (a.byRole || a.folded.count(keys.groups[group]));
        return together ? keys.groups[group] : std::string();
    });
    if (a.byProgram) bringTogether(order, [&](uint32_t lane) { return r.lanes[lane].program; });
    std::stable_partition(order.begin(), order.end(),
                          [&](uint32_t lane) { return a.pinned.count(keys.lanes[lane]) > 0; });
    return order;
}

void ArrangedLanes::takeRecording(const Recording& recording) {
    const auto program = recording.context.find("program");
    program_ = program == recording.context.end() ? QString() : toQString(program->second);
    now_ = arrangementIn(settings::laneArrangement(program_).get());
    emit loaded();
}

void ArrangedLanes::set(const LaneArrangement& arrangement) {
    if (arrangement == now_) return;
    now_ = arrangement;
    settings::laneArrangement(program_).set(jsonOf(now_));
    emit changed();
}

}  // namespace fugato
