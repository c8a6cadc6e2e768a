// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be done with what lies under the pointer in the lanes: a marker, a point, a frame, an instant.
#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QMenu>

#include "app/document/document.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"
#include "lanes_view.h"

namespace fugato {

void LanesView::copyText(const QString& text) const { QApplication::clipboard()->setText(text); }

void LanesView::contextMenuEvent(QContextMenuEvent* event) {
    if (!document_.recording()) return;
    const bool byKey = event->reason() == QContextMenuEvent::Keyboard;
    const MarkerRef marker =
        byKey ? selection_.marker() : picture_.markerAt(viewport()->rect(), scrolled(), event->pos());
    QMenu menu(this);
    fillMenu(menu, byKey ? QPoint(-1, -1) : event->pos(), marker);
    menu.exec(byKey ? viewport()->mapToGlobal(picture_.axisOf(viewport()->rect()).center()) : event->globalPos());
}

/// `at`: outside of the picture where the keyboard asked.
void LanesView::fillMenu(QMenu& menu, const QPoint& at, const MarkerRef& marker) {
    const QRect area = viewport()->rect();
    const bool onAxis = area.contains(at) && at.x() >= picture_.axisOf(area).left();
    const int64_t time = onAxis ? timeNear(at) : instantOrBegin();
    if (const Point* point = area.contains(at) ? picture_.pointAt(area, scrolled(), at) : nullptr) {
        menu.addAction(tr("&Go to its marker"), this, [this, at] { clickAt(at); });
        menu.addAction(tr("&Copy its words"), this,
                       [this, words = toQString(document_.recording()->text(point->text))] { copyText(words); });
        menu.addSeparator();
    }
    if (area.contains(at) && onLabel(at)) {
        if (const auto track = picture_.trackAt(area, scrolled(), at)) {
            const std::string key = picture_.tracks().tracks()[*track].key();
            menu.addAction(tr("&Hide %1").arg(QString(picture_.tracks().tracks()[*track].name).replace('&', "&&")),
                           this,
                           [this, key] { arrangement_.change([&](LaneArrangement& a) { a.hidden.insert(key); }); });
        } else if (const uint32_t lane = picture_.laneAt(area, scrolled(), at.y()); lane != kNone) {
            selection_.chooseLane(lane);
        }
        return fillLaneMenu(menu);
    }
    if (marker.valid()) addMarkerActions(menu, marker);
    addInstantActions(menu, time);
    const auto& e = document_.explanation();
    if (area.contains(at) && at.y() < LanePicture::kHeaderHeight && e) {
        const uint32_t frame = document_.recording()->series[e->series].frameAt(time);
        if (frame < e->frames.size())
            menu.addAction(tr("Selec&t frame %1").arg(toQString(countText(frame))), this,
                           [this, frame] { selection_.chooseFrame(frame); });
    }
    fillLaneMenu(*menu.addMenu(tr("Lanes")));
    menu.addAction(tr("Zoom to the selected &frame"), this, [this] { selection_.showFrame(); });
    menu.addAction(tr("Show the &whole recording"), this, [this] { selection_.showWhole(); });
    if (selection_.range()) menu.addAction(tr("C&lear the selection"), this, [this] { selection_.selectRange({}); });
}

void LanesView::addMarkerActions(QMenu& menu, const MarkerRef& marker) {
    selection_.chooseMarker(marker);
    const MarkerRow& row = document_.recording()->lanes[marker.lane].rows[marker.row];
    const TimeRange its{row.begin(marker.index), row.end(marker.index)};
    menu.addAction(tr("&Zoom to the marker"), this, [this, marker] { selection_.showMarker(marker); });
    menu.addAction(tr("&Select its time"), this, [this, its] { selection_.selectRange(its); });
    menu.addAction(tr("Show its &occurrences"), this, &LanesView::occurrencesWanted);
    QMenu* goes = menu.addMenu(tr("Connected wit&h"));
    // It may be found while the menu is open.
    const auto fill = [this, goes] {
        goes->clear();
        addConnections(*goes);
    };
    connect(this, &LanesView::connectionsChanged, goes, fill);
    fill();
    addKeeping(menu, marker);
    if (const SourcePlace source = selection_.sourceOfMarker(); !source.file.empty()) {
        menu.addAction(tr("Show its so&urce"), this, [this, source] { selection_.lookAtSource(source); });
        menu.addAction(tr("Open it in the e&ditor"), this, [this, source] { emit selection_.editorWanted(source); });
    }
    menu.addAction(tr("&Copy name and times"), this, [this, text = nameOf(marker)] { copyText(text); });
    menu.addAction(tr("Copy its &begin in nanoseconds"), this, [this, its] { copyText(QString::number(its.begin)); });
    menu.addSeparator();
}

/// Each place to which one can go from the selected marker.
void LanesView::addConnections(QMenu& menu) {
    const auto& recording = document_.recording();
    if (!connections_ || connections_->list.empty()) {
        menu.addAction(connections_ ? tr("No other marker is known") : tr("Being looked up…"))->setEnabled(false);
        return;
    }
    for (const Connection& connection : connections_->list)
        menu.addAction(capitalised(toQString(connectionText(*recording, connection))).replace('&', "&&"), this,
                       [this, connection] { goTo(connection); });
    if (connections_->more) menu.addAction(tr("And more; the longest lists are cut"))->setEnabled(false);
}

void LanesView::addInstantActions(QMenu& menu, int64_t time) {
    menu.addAction(tr("Add a no&te…"), this, &LanesView::noteWanted);
    menu.addAction(tr("&Measure from here"), this, [this, time] { selection_.setAnchor(time); });
    if (const QString measured = measuredText(); !measured.isEmpty()) {
        menu.addAction(tr("Copy the m&easured time"), this, [this, measured] { copyText(measured); });
        const auto from = *selection_.anchor();
        const int64_t to = pointedTime_ ? *pointedTime_ : *selection_.instant();
        menu.addAction(tr("Select the measured t&ime"), this, [this, from, to] {
            selection_.selectRange(TimeRange{std::min(from, to), std::max(from, to)});
        });
        menu.addAction(tr("E&nd measuring"), this, [this] { selection_.setAnchor(std::nullopt); });
    }
    menu.addAction(tr("Co&py the instant"), this,
                   [this, time] { copyText(toQString(exactText(time - document_.recording()->begin))); });
    menu.addSeparator();
}

}  // namespace fugato
