// SPDX-License-Identifier: GPL-3.0-or-later
//
// Arranging the lanes: hidden, at the top, folded, moved by drag and by key, in one order or another; and which markers
// are faded or have a tint.
#include <QMenu>
#include <QPixmap>
#include <QScrollBar>
#include <algorithm>

#include "app/document/document.h"
#include "app/selection/selected_frame.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "lanes_view.h"

namespace fugato {

namespace {

QString shownName(const std::string& name) { return toQString(name).replace('&', "&&"); }

/// Puts a key in, or takes it out.
void toggle(std::set<std::string>& keys, const std::string& key) {
    if (!keys.erase(key)) keys.insert(key);
}

}  // namespace

void LanesView::takeArrangement() {
    keepingPlace([this] {
        picture_.setArrangement(arrangement_.now());
        takeWeights();
        return true;
    });
    arrangementChanged();
}

/// How the lanes weigh in the order that was chosen.
void LanesView::takeWeights() {
    const auto& recording = document_.recording();
    const LaneOrder order = arrangement_.now().order;
    std::vector<int64_t> weights;
    if (recording && order != LaneOrder::Recorded && order != LaneOrder::Own) {
        weights.assign(recording->lanes.size(), 0);
        const auto& frame = picture_.frame();
        if (order == LaneOrder::Part && frame)
            for (const ExplainedFrame::Stay& stay : frame->path) weights[stay.lane] += stay.end - stay.begin;
        if (order == LaneOrder::Activity) {
            const int64_t begin = frame ? frame->times().begin : recording->begin,
                          end = frame ? frame->times().end : recording->end;
            for (uint32_t lane = 0; lane < weights.size(); ++lane)
                weights[lane] = recording->lanes[lane].busyBetween(begin, end);
        }
    }
    picture_.setWeights(std::move(weights));
}

void LanesView::arrangementChanged() {
    setRanges();
    std::vector<uint8_t> shown;
    // Of what is drawn: the recording may have grown since, and have more lanes.
    if (const auto& recording = picture_.recording(); recording && picture_.hiddenLanes()) {
        for (uint32_t lane = 0; lane < recording->lanes.size(); ++lane) shown.push_back(!picture_.hidden(lane));
    }
    selection_.setShownLanes(std::move(shown));
    parts_->changed();
    viewport()->update();
}

bool LanesView::onLabel(const QPoint& at) const {
    return document_.recording() && at.x() < picture_.labelWidth() && at.y() >= LanePicture::kHeaderHeight;
}

std::string LanesView::selectedKey() const {
    const uint32_t lane = selectedLane();
    return lane < picture_.keys().lanes.size() ? picture_.keys().lanes[lane] : std::string();
}

void LanesView::hideLane() {
    const std::string key = selectedKey();
    if (key.empty()) return;
    const uint32_t lane = selectedLane();
    const QString name = picture_.labelOf(lane);
    arrangement_.change([&](LaneArrangement& a) { a.hidden.insert(key); });
    // The next one is selected, so that several can be hidden one after the other.
    const std::vector<uint32_t>& order = picture_.order();
    const std::vector<uint32_t> left = picture_.lanesFromTop();
    auto next = std::find(order.begin(), order.end(), lane);
    while (next != order.end() && std::find(left.begin(), left.end(), *next) == left.end()) ++next;
    selection_.chooseLane(next != order.end() ? *next : left.empty() ? kNone : left.back());
    emit said(tr("%1 is hidden. Shift+H shows all lanes again, Ctrl+Z this one.").arg(name));
}

void LanesView::showAllLanes() {
    arrangement_.change([](LaneArrangement& a) { a.hidden.clear(); });
}

void LanesView::pinLane() {
    if (const std::string key = selectedKey(); !key.empty())
        arrangement_.change([&](LaneArrangement& a) { toggle(a.pinned, key); });
}

void LanesView::toggleFold(const std::string& key) {
    if (!key.empty()) arrangement_.change([&](LaneArrangement& a) { toggle(a.folded, key); });
}

void LanesView::foldLane() { toggleFold(selectedKey()); }

void LanesView::foldRole() {
    const uint32_t lane = selectedLane();
    if (selectedKey().empty()) return;
    const uint32_t group = document_.recording()->lanes[lane].group;
    if (group < picture_.keys().groups.size()) toggleFold(picture_.keys().groups[group]);
}

void LanesView::orderBy(LaneOrder order) {
    arrangement_.change([&](LaneArrangement& a) {
        if (order == LaneOrder::Own && a.own.empty())
            for (const uint32_t lane : picture_.order()) a.own.push_back(picture_.keys().lanes[lane]);
        a.order = order;
    });
    verticalScrollBar()->setValue(0);
}

void LanesView::keepRolesTogether(bool together) {
    arrangement_.change([&](LaneArrangement& a) { a.byRole = together; });
}

void LanesView::keepProgramsTogether(bool together) {
    arrangement_.change([&](LaneArrangement& a) { a.byProgram = together; });
}

/// Moves lanes before another, or behind the last. `pins`: among those at the top they stay there, too.
void LanesView::placeLanes(const std::vector<uint32_t>& lanes, uint32_t before, bool pins) {
    if (std::find(lanes.begin(), lanes.end(), before) != lanes.end()) return;
    const auto& keys = picture_.keys().lanes;
    const bool top = before != kNone && picture_.pinned(before);
    arrangement_.change([&](LaneArrangement& a) {
        std::vector<std::string> own;
        const auto add = [&] {
            for (const uint32_t lane : lanes) own.push_back(keys[lane]);
        };
        for (const uint32_t lane : picture_.order()) {
            if (lane == before) add();
            if (std::find(lanes.begin(), lanes.end(), lane) == lanes.end()) own.push_back(keys[lane]);
        }
        if (before == kNone) add();
        for (const uint32_t lane : lanes)
            if (pins) top ? void(a.pinned.insert(keys[lane])) : void(a.pinned.erase(keys[lane]));
        a.own = std::move(own);
        a.order = LaneOrder::Own;
    });
}

/// Past the next one, or the one before; from those at the top to the others and back it goes by pinLane() only.
void LanesView::moveLane(int by) {
    const uint32_t lane = selectedLane();
    const std::vector<uint32_t> shown = picture_.lanesFromTop();
    const auto count = static_cast<std::ptrdiff_t>(shown.size());
    const auto at = std::find(shown.begin(), shown.end(), lane) - shown.begin(), beside = at + by;
    if (at == count || beside < 0 || beside >= count) return;
    if (picture_.pinned(lane) != picture_.pinned(shown[static_cast<size_t>(beside)])) return;
    const auto before = by < 0 ? beside : beside + 1;
    placeLanes(picture_.lanesIn(lane), before < count ? shown[static_cast<size_t>(before)] : kNone, false);
    selection_.chooseLane(lane);
    showLane(lane);
}

void LanesView::dragLane(const QPoint& at) {
    const QRect area = viewport()->rect();
    const uint32_t below = picture_.laneBelow(area, scrolled(), at.y());
    const std::vector<uint32_t> shown = picture_.lanesFromTop();
    const int y = below != kNone  ? picture_.laneRect(area, scrolled(), below).top()
                  : shown.empty() ? area.bottom()
                                  : picture_.laneRect(area, scrolled(), shown.back()).bottom();
    picture_.setDropLine(std::clamp(y, LanePicture::kHeaderHeight, area.bottom()));
    selection_.chooseLane(draggedLane_);
    viewport()->setCursor(Qt::ClosedHandCursor);
    constexpr int kNearEdge = 24;  // pixels: scrolls on
    if (at.y() > area.bottom() - kNearEdge) verticalScrollBar()->setValue(scrolled() + LanePicture::kRowHeight);
    if (at.y() < picture_.scrolledPart(area).top() + kNearEdge)
        verticalScrollBar()->setValue(scrolled() - LanePicture::kRowHeight);
    viewport()->update();
}

void LanesView::dropLane(const QPoint& at) {
    picture_.setDropLine(LanePicture::kNoDrop);
    viewport()->update();
    const uint32_t lane = std::exchange(draggedLane_, kNone);
    const uint32_t before = picture_.laneBelow(viewport()->rect(), scrolled(), at.y());
    if (lane < picture_.keys().lanes.size()) placeLanes(picture_.lanesIn(lane), before, true);
}

void LanesView::lookAtLane(uint32_t lane) {
    if (lane >= picture_.keys().lanes.size()) return;
    if (picture_.hidden(lane))
        arrangement_.change([&](LaneArrangement& a) { a.hidden.erase(picture_.keys().lanes[lane]); });
    if (picture_.standsFor(lane) == 0 || picture_.slim(lane)) picture_.reveal(lane, 0);
    setRanges();
    showLane(lane);
    viewport()->update();
}

void LanesView::fillLaneMenu(QMenu& menu) {
    const uint32_t lane = selectedLane();
    const LaneArrangement& now = arrangement_.now();
    const bool any = !selectedKey().empty();
    const QString name = any ? shownName(document_.recording()->lanes[lane].name) : QString();
    const auto add = [&](const QString& words, void (LanesView::*act)(), bool on) {
        QAction* action = menu.addAction(words, this, act);
        action->setCheckable(true);
        action->setChecked(on);
        action->setEnabled(any);
    };
    if (any) {
        menu.addAction(tr("&Hide %1").arg(name), this, &LanesView::hideLane);
        add(tr("&Keep %1 at the top").arg(name), &LanesView::pinLane, now.pinned.count(selectedKey()) > 0);
        add(tr("Fol&d %1 to one line").arg(name), &LanesView::foldLane, now.folded.count(selectedKey()) > 0);
        const uint32_t group = document_.recording()->lanes[lane].group;
        const auto& groups = picture_.keys().groups;
        if (group < groups.size() && document_.recording()->groups[group].lanes.size() > 1)
            add(tr("Fold all lanes of %1 to one line").arg(shownName(document_.recording()->groups[group].name)),
                &LanesView::foldRole, now.folded.count(groups[group]) > 0);
        menu.addAction(tr("Move &up"), this, [this] { moveLane(-1); });
        menu.addAction(tr("Move dow&n"), this, [this] { moveLane(1); });
        menu.addSeparator();
    }
    QMenu* order = menu.addMenu(tr("&Order"));
    for (const auto& [one, words] :
         {std::pair(LaneOrder::Recorded, tr("As &recorded")), std::pair(LaneOrder::Activity, tr("The &busiest first")),
          std::pair(LaneOrder::Part, tr("By their &part in the frame's critical path")),
          std::pair(LaneOrder::Own, tr("My &own"))}) {
        QAction* action = order->addAction(words, this, [this, one = one] { orderBy(one); });
        action->setCheckable(true);
        action->setChecked(now.order == one);
    }
    QAction* together = menu.addAction(tr("Lanes of a &role together"));
    together->setCheckable(true);
    together->setChecked(now.byRole);
    connect(together, &QAction::toggled, this, &LanesView::keepRolesTogether);
    if (document_.recording()->programNames().size() > 1) {
        QAction* ofProgram = menu.addAction(tr("Lanes of a pro&gram together"));
        ofProgram->setCheckable(true);
        ofProgram->setChecked(now.byProgram);
        connect(ofProgram, &QAction::toggled, this, &LanesView::keepProgramsTogether);
    }
    if (picture_.hiddenLanes() + picture_.hiddenTracks()) {
        menu.addSeparator();
        fillLeftOutMenu(menu);
    }
}

/// What is hidden or faded, and how it comes back.
void LanesView::fillLeftOutMenu(QMenu& menu) {
    if (const auto& kept = selection_.markersInFocus())
        menu.addAction(kept->alone ? tr("Show all &markers again") : tr("No &markers faded"), this,
                       [this] { selection_.focusMarkers(nullptr); });
    if (!picture_.hiddenLanes() && !picture_.hiddenTracks()) return;
    menu.addAction(tr("&Show all lanes"), this, &LanesView::showAllLanes);
    const auto add = [&](const QString& name, const std::string& key) {
        menu.addAction(tr("Show %1").arg(name), this,
                       [this, key] { arrangement_.change([&](LaneArrangement& a) { a.hidden.erase(key); }); });
    };
    for (const uint32_t lane : picture_.order())
        if (picture_.hidden(lane)) add(shownName(document_.recording()->lanes[lane].name), picture_.keys().lanes[lane]);
    for (const TrackPicture::Track& track : picture_.tracks().tracks())
        if (arrangement_.now().hidden.count(track.key())) add(QString(track.name).replace('&', "&&"), track.key());
}

/// A marker, or its category, looked at beside the others, or alone.
void LanesView::addKeeping(QMenu& menu, const MarkerRef& marker) {
    const Recording& r = *document_.recording();
    const PathId path = r.pathOf(marker);
    if (!path) return;
    const uint32_t site = r.paths[path].site;
    const Site& its = r.sites[site];
    std::vector<uint32_t> alike;
    for (uint32_t i = 0; i < r.sites.size() && !its.category.empty(); ++i)
        if (r.sites[i].category == its.category) alike.push_back(i);
    QMenu* look = menu.addMenu(tr("&Look at"));
    const auto add = [&](const QString& words, const std::string& name, const std::vector<uint32_t>& sites,
                         bool alone) {
        auto kept = std::make_shared<const MarkersInFocus>(MarkersInFocus{name, sites, alone});
        look->addAction(words, this, [this, kept] { selection_.focusMarkers(kept); });
    };
    const QString name = shownName(its.name), category = shownName(its.category);
    add(tr("&Fade all but %1").arg(name), its.name, {site}, false);
    add(tr("&Only %1").arg(name), its.name, {site}, true);
    if (!alike.empty()) {
        add(tr("F&ade all but category %1").arg(category), its.category, alike, false);
        add(tr("O&nly category %1").arg(category), its.category, alike, true);
    }
    if (selection_.markersInFocus())
        look->addAction(tr("&All markers"), this, [this] { selection_.focusMarkers(nullptr); });
    look->addSeparator();
    addTints(*look, tr("&Tint of %1").arg(name), "marker " + its.name);
    if (!its.category.empty()) addTints(*look, tr("Tint of &category %1").arg(category), "category " + its.category);
}

void LanesView::addTints(QMenu& menu, const QString& name, const std::string& what) {
    const QString names[Theme::kTints] = {tr("Ochre"), tr("Moss"),    tr("Sea green"),
                                          tr("Sky"),   tr("Heather"), tr("Clay")};
    QMenu* tints = menu.addMenu(name);
    const auto& all = arrangement_.now().tints;
    const auto now = all.find(what);
    for (int tint = 0; tint <= Theme::kTints; ++tint) {
        QAction* action = tints->addAction(tint ? names[tint - 1] : tr("None"), this, [this, what, tint] {
            arrangement_.change(
                [&](LaneArrangement& a) { tint ? void(a.tints[what] = tint) : void(a.tints.erase(what)); });
        });
        action->setCheckable(true);
        action->setChecked(tint == (now == all.end() ? 0 : now->second));
        if (!tint) continue;
        QPixmap patch(14, 14);
        patch.fill(theme().tint(tint));
        action->setIcon(patch);
    }
}

}  // namespace fugato
