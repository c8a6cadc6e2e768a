// SPDX-License-Identifier: GPL-3.0-or-later
#include "lanes_view.h"

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>
#include <QToolTip>
#include <algorithm>
#include <cmath>
#include <map>

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

LanesView::LanesView(Document& document, Selection& selection, QWidget* parent)
    : QAbstractScrollArea(parent), document_(document), selection_(selection) {
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(260, 120);
    viewport()->setMouseTracking(true);
    setAccessibleName(tr("Lanes: what every thread and queue did"));
    connect(&document, &Document::recordingChanged, this, &LanesView::takeRecording);
    connect(&document, &Document::recordingGrew, this, [this] {
        picture_.setRecording(document_.recording());
        setRanges();
        takeChoice();
    });
    connect(&document, &Document::explanationChanged, this, [this] {
        picture_.setExplanation(document_.explanation());
        takeChoice();
    });
    connect(&selection, &Selection::viewChanged, this, [this] {
        picture_.setView(selection_.view().begin, selection_.view().end);
        viewport()->update();
    });
    connect(&selection, &Selection::chosenChanged, this, &LanesView::takeChoice);
    connect(&selection, &Selection::stretchChanged, this, [this] {
        picture_.setStretch(selection_.stretch());
        viewport()->update();
    });
}

int LanesView::scrolled() const { return verticalScrollBar()->value(); }

void LanesView::takeRecording() {
    picture_.setRecording(document_.recording());
    setRanges();
    verticalScrollBar()->setValue(0);
    viewport()->update();
}

void LanesView::takeChoice() {
    const uint32_t before = shownFrame_;
    shownFrame_ = selection_.frame();
    picture_.setFrame(selection_.frame(), selection_.cause());
    setRanges();
    picture_.setMarker(selection_.marker());
    if (before != shownFrame_) showAccounting();
    viewport()->update();
}

void LanesView::setRanges() {
    const int room = viewport()->height() - LanePicture::kHeaderHeight;
    picture_.setRoom(room);
    verticalScrollBar()->setRange(0, std::max(0, picture_.height() - room));
    verticalScrollBar()->setPageStep(std::max(1, room));
    verticalScrollBar()->setSingleStep(LanePicture::kRowHeight);
}

void LanesView::setGathering(bool gathering) {
    picture_.setGathering(gathering);
    setRanges();
    showAccounting();
    viewport()->update();
}

void LanesView::showLane(uint32_t lane) {
    const QRect area = viewport()->rect(), box = picture_.laneRect(area, scrolled(), lane);
    if (box.top() < area.top() + LanePicture::kHeaderHeight)
        verticalScrollBar()->setValue(scrolled() + box.top() - area.top() - LanePicture::kHeaderHeight);
    else if (box.bottom() > area.bottom())
        verticalScrollBar()->setValue(scrolled() + box.bottom() - area.bottom());
}

void LanesView::showAccounting() {
    const auto& pieces = picture_.accounting();
    if (pieces.empty()) return;
    // The lane that took most of the frame last, so that it is in sight even where not all fit.
    std::map<uint32_t, int64_t> times;
    for (const Piece& piece : pieces) times[piece.lane] += piece.duration();
    std::vector<std::pair<int64_t, uint32_t>> order;
    for (const auto& [lane, time] : times) order.emplace_back(time, lane);
    std::sort(order.begin(), order.end());
    for (const auto& [time, lane] : order) showLane(lane);
    const uint32_t owner = pieces.front().lane;
    if (order.back().second == owner || order.size() < 2) return;
    showLane(owner);
    showLane(order.back().second);
}

void LanesView::paintEvent(QPaintEvent*) {
    QPainter painter(viewport());
    const Theme& t = theme();
    const QRect area = viewport()->rect();
    if (!document_.recording() || document_.recording()->lanes.empty()) {
        painter.fillRect(area, t.paper);
        painter.setPen(t.muted);
        painter.setFont(textFont());
        painter.drawText(area.adjusted(20, 0, -20, 0), Qt::AlignCenter | Qt::TextWordWrap,
                         document_.recording() ? tr("This recording holds no events.")
                                               : tr("Open a recording with Ctrl+O, or drop one here.\nThreads, queues "
                                                    "and their markers then stand in this place."));
        return;
    }
    picture_.setView(selection_.view().begin, selection_.view().end);
    picture_.paint(painter, area, scrolled());
    picture_.setWaits(false);
    fetchMissing();
    emit painted();
}

/// What had to be drawn from summaries is read on another thread, and drawn again when it is there.
void LanesView::fetchMissing() {
    if (picture_.missing().empty() || fetching_) return;
    fetching_ = true;
    fetcher_ = Task::start(
        [this, recording = document_.recording(), missing = picture_.missing()](Task& task) {
            for (const LanePicture::Missing& part : missing) {
                if (task.cancelled()) return;
                recording->lanes[part.lane].rows[part.row].fetch(part.from, part.to);
            }
            task.post([this] {
                fetching_ = false;
                picture_.setWaits(true);  // even if it has been let go of again by now
                viewport()->update();
            });
        },
        [this](const QString&) { fetching_ = false; });  // it is drawn from summaries, as it is
}

LanesView::~LanesView() {
    if (fetcher_) fetcher_->cancel();
}

void LanesView::resizeEvent(QResizeEvent*) { setRanges(); }
void LanesView::scrollContentsBy(int, int) { viewport()->update(); }

void LanesView::changeEvent(QEvent* event) {
    if (event->type() == QEvent::PaletteChange || event->type() == QEvent::FontChange) picture_.themeChanged();
    QAbstractScrollArea::changeEvent(event);
}

void LanesView::wheelEvent(QWheelEvent* event) {
    const double up = event->angleDelta().y() / 120.0, aside = event->angleDelta().x() / 120.0;
    if (event->modifiers() & Qt::ControlModifier)
        selection_.zoom(std::pow(0.8, up), picture_.timeAt(viewport()->rect(), event->position().x()));
    else if (event->modifiers() & Qt::ShiftModifier)
        selection_.pan(-0.12 * (up + aside));
    else if (aside != 0)
        selection_.pan(-0.12 * aside);
    else
        verticalScrollBar()->setValue(scrolled() - static_cast<int>(up * 3 * LanePicture::kRowHeight));
    event->accept();
}

void LanesView::mousePressEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return;
    dragging_ = true;
    moved_ = false;
    pressedAt_ = event->pos();
    pressedView_ = selection_.view();
    pressedScroll_ = scrolled();
    choosing_ = event->modifiers() & Qt::ShiftModifier && document_.recording();
}

void LanesView::mouseMoveEvent(QMouseEvent* event) {
    if (!dragging_) return;
    const QPoint by = event->pos() - pressedAt_;
    if (!moved_ && by.manhattanLength() < 5) return;
    moved_ = true;
    if (choosing_) {  // a stretch of time
        const QRect area = viewport()->rect();
        const int from = std::min(pressedAt_.x(), event->pos().x()), to = std::max(pressedAt_.x(), event->pos().x());
        selection_.chooseStretch(Stretch{picture_.timeAt(area, from), picture_.timeAt(area, to)});
        viewport()->setCursor(Qt::IBeamCursor);
        return;
    }
    viewport()->setCursor(Qt::ClosedHandCursor);
    const double nsPerPixel = static_cast<double>(pressedView_.end - pressedView_.begin) /
                              std::max(1, viewport()->width() - LanePicture::kLabelWidth);
    const auto shift = static_cast<int64_t>(-by.x() * nsPerPixel);
    selection_.showSpan(pressedView_.begin + shift, pressedView_.end + shift);
    verticalScrollBar()->setValue(pressedScroll_ - by.y());
}

void LanesView::mouseReleaseEvent(QMouseEvent* event) {
    if (!dragging_ || event->button() != Qt::LeftButton) return;
    dragging_ = false;
    viewport()->unsetCursor();
    if (moved_ || !document_.recording()) return;
    const QRect area = viewport()->rect();
    if (event->pos().y() < LanePicture::kHeaderHeight) {  // the frames in the header
        const auto& e = document_.explanation();
        if (!e) return;
        const uint32_t frame =
            document_.recording()->series[e->series].frameAt(picture_.timeAt(area, event->pos().x()));
        if (frame != kNone) selection_.chooseFrame(frame);
        return;
    }
    if (const uint32_t lane = picture_.laneAt(area, scrolled(), event->pos().y());
        lane != kNone && picture_.foldRect(area, scrolled(), lane).contains(event->pos())) {
        picture_.toggleFold(lane);
        setRanges();
        viewport()->update();
        return;
    }
    if (const uint32_t lane = picture_.laneAt(area, scrolled(), event->pos().y());
        lane != kNone && picture_.slim(lane)) {
        picture_.openSlim(lane);
        setRanges();
        viewport()->update();
        return;
    }
    selection_.chooseMarker(picture_.markerAt(area, scrolled(), event->pos()));
}

void LanesView::mouseDoubleClickEvent(QMouseEvent* event) {
    if (!document_.recording()) return;
    const MarkerRef marker = picture_.markerAt(viewport()->rect(), scrolled(), event->pos());
    if (!marker.valid()) return;
    selection_.showMarker(marker);
}

void LanesView::keyPressEvent(QKeyEvent* event) {
    const int64_t middle = (selection_.view().begin + selection_.view().end) / 2;
    switch (event->key()) {
        case Qt::Key_Left:
            if (event->modifiers() == Qt::NoModifier) {
                selection_.pan(-0.15);
                return;
            }
            break;
        case Qt::Key_Right:
            if (event->modifiers() == Qt::NoModifier) {
                selection_.pan(0.15);
                return;
            }
            break;
        case Qt::Key_Up: verticalScrollBar()->setValue(scrolled() - LanePicture::kRowHeight * 2); return;
        case Qt::Key_Down: verticalScrollBar()->setValue(scrolled() + LanePicture::kRowHeight * 2); return;
        case Qt::Key_Plus:
        case Qt::Key_Equal: selection_.zoom(0.7, middle); return;
        case Qt::Key_Minus: selection_.zoom(1 / 0.7, middle); return;
        default: break;
    }
    event->ignore();
}

QString LanesView::wordsFor(const MarkerRef& marker) const {
    const Recording& r = *document_.recording();
    const Lane& lane = r.lanes[marker.lane];
    const MarkerRow& row = lane.rows[marker.row];
    const Site& site = r.siteOf(row.path(marker.index));
    const int64_t begin = row.begin(marker.index), end = row.end(marker.index);
    QString words = "<b>" + q(site.name).toHtmlEscaped() + "</b>";
    if (!site.category.empty()) words += " · " + q(site.category).toHtmlEscaped();
    if (!site.description.empty()) words += "<br>" + q(site.description).toHtmlEscaped();
    words += tr("<br>%1 on %2, of which itself %3")
                 .arg(q(durationText(end - begin)), q(lane.name).toHtmlEscaped(), q(durationText(r.selfTime(marker))));
    if (const Wait* wait = row.flags(marker.index) & kMarkerWait ? lane.waitOf(marker) : nullptr) {
        words += tr("<br>waits (%1)").arg(q(wordOf(wait->kind)));
        if (wait->object != kNone) {
            words += tr(" for ‘%1’").arg(q(r.objects[wait->object]).toHtmlEscaped());
            for (const Hold& hold : r.holds[wait->object])
                if (hold.lane != marker.lane && hold.begin < end && hold.end > begin)
                    words += tr("<br>held by %1 in ‘%2’ for %3")
                                 .arg(q(r.lanes[hold.lane].name).toHtmlEscaped(),
                                      q(r.pathText(hold.path)).toHtmlEscaped(), q(durationText(hold.end - hold.begin)));
        }
    }
    if (document_.explanation()) {
        const auto& e = *document_.explanation();
        const uint32_t frame = r.series[e.series].frameAt(begin);
        if (frame != kNone) {
            const Frame& f = e.frame(frame);
            const int64_t inside = std::max<int64_t>(0, std::min(end, f.end) - std::max(begin, f.begin));
            if (inside > 0 && f.duration() > 0)
                words += tr("<br>%1 % of frame %2")
                             .arg(100.0 * static_cast<double>(inside) / static_cast<double>(f.duration()), 0, 'f', 1)
                             .arg(q(countText(frame)));
        }
    }
    for (const LinkEnd& link : lane.linkIns) {  // where the work, or the end of a wait, came from
        if (link.time < begin || link.time > end || link.path != row.path(marker.index)) continue;
        const auto source = r.linkSource(link.link);
        if (!source) continue;
        words += tr("<br>linked from ‘%1’ on %2, %3 earlier")
                     .arg(q(r.pathText(source->path)).toHtmlEscaped(), q(r.lanes[source->lane].name).toHtmlEscaped(),
                          q(durationText(link.time - source->time)));
        break;
    }
    const auto [from, to] = lane.argumentsOf(marker.row, marker.index);
    for (const Argument* argument = from; argument != to && argument - from < 12; ++argument)
        words += "<br>" + q(r.keys[argument->key]).toHtmlEscaped() + " = " +
                 q(r.valueText(*argument)).left(200).toHtmlEscaped();
    if (row.flags(marker.index) & kMarkerChangedNothing) words += tr("<br>changed nothing: it need not have run");
    if (site.longestNs && end - begin > site.longestNs)
        words += tr("<br>longer than the %1 expected").arg(q(durationText(site.longestNs)));
    if (const QString state = picture_.tracks().scheduleWords(lane, (begin + end) / 2); !state.isEmpty())
        words += tr("<br>in its middle %1").arg(state.toHtmlEscaped());
    if (row.flags(marker.index) & kMarkerEndRepaired)
        words += tr("<br>never ended; drawn to where it must have been over");
    if (!site.file.empty()) words += "<br>" + q(site.file).toHtmlEscaped() + ":" + QString::number(site.line);
    return words;
}

bool LanesView::viewportEvent(QEvent* event) {
    if (event->type() == QEvent::ToolTip && document_.recording()) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const MarkerRef marker = picture_.markerAt(viewport()->rect(), scrolled(), help->pos());
        const QString words =
            marker.valid() ? wordsFor(marker) : picture_.wordsAt(viewport()->rect(), scrolled(), help->pos());
        if (!words.isEmpty())
            QToolTip::showText(help->globalPos(), richTip(words), viewport());
        else
            QToolTip::hideText();
        return true;
    }
    return QAbstractScrollArea::viewportEvent(event);
}

}  // namespace fugato
