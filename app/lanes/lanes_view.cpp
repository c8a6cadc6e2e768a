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
#include <utility>

#include "app/document/document.h"
#include "app/selection/selected_frame.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

LanesView::LanesView(Document& document, Selection& selection, SelectedFrame& selected, QWidget* parent)
    : QAbstractScrollArea(parent), document_(document), selection_(selection), selected_(selected) {
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(260, 120);
    viewport()->setMouseTracking(true);
    setAccessibleName(tr("Lanes: what every thread and queue did"));
    connect(&document, &Document::recordingChanged, this, &LanesView::takeRecording);
    connect(&document, &Document::recordingGrew, this, [this] {
        picture_.setRecording(document_.recording(), true);
        setRanges();
        takeChoice();
        if (!programs_.busy()) fetchPrograms();  // else the next time
    });
    connect(&selected, &SelectedFrame::changed, this, &LanesView::takeChoice);
    connect(&document, &Document::explanationChanged, this, [this] {
        picture_.setExplanation(document_.explanation());
        takeChoice();
    });
    connect(&document, &Document::symbolsChanged, this, [this] { picture_.setSymbols(document_.symbols()); });
    connect(&selection, &Selection::viewChanged, this, [this] {
        picture_.setView(selection_.view().begin, selection_.view().end);
        viewport()->update();
    });
    connect(&selection, &Selection::chosenChanged, this, &LanesView::takeChoice);
    connect(&selection, &Selection::rangeChanged, this, [this] {
        picture_.setRange(selection_.range());
        viewport()->update();
    });
}

int LanesView::scrolled() const { return verticalScrollBar()->value(); }

void LanesView::takeRecording() {
    picture_.setSymbols(document_.symbols());
    picture_.setRecording(document_.recording());
    setRanges();
    verticalScrollBar()->setValue(0);
    viewport()->update();
    fetchPrograms();
}

void LanesView::takeChoice() {
    const auto& frame = selected_.shown();
    const uint32_t before = std::exchange(shownFrame_, frame ? frame->frame : kNone);
    picture_.setFrame(frame, selection_.cause());
    setRanges();
    picture_.setMarker(selection_.marker());
    if (before != shownFrame_) showCriticalPath();
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
    showCriticalPath();
    viewport()->update();
}

void LanesView::setPrograms(bool shown) {
    programsShown_ = shown;
    if (!shown) {
        programs_.silence();
        picture_.setPrograms(nullptr);
        setRanges();
        viewport()->update();
    }
    fetchPrograms();
}

/// Finds them in the background; where there are many changes on the cores that takes a while.
void LanesView::fetchPrograms() {
    constexpr size_t kMost = 8;
    const auto recording = document_.recording();
    if (!programsShown_ || !recording || !recording->whole || !tellsOtherPrograms(*recording)) return;
    programs_.ask([recording](const Progress& progress) { return otherPrograms(*recording, kMost, progress); },
                  [this](const std::shared_ptr<const OtherProgramList>& found) {
                      picture_.setPrograms(found);
                      setRanges();
                      viewport()->update();
                  });
}

void LanesView::showLane(uint32_t lane) {
    const QRect area = viewport()->rect(), box = picture_.laneRect(area, scrolled(), lane);
    if (box.top() < area.top() + LanePicture::kHeaderHeight)
        verticalScrollBar()->setValue(scrolled() + box.top() - area.top() - LanePicture::kHeaderHeight);
    else if (box.bottom() > area.bottom())
        verticalScrollBar()->setValue(scrolled() + box.bottom() - area.bottom());
}

void LanesView::showCriticalPath() {
    if (!picture_.frame() || picture_.frame()->path.empty()) return;
    const auto& path = picture_.frame()->path;
    // The lane that took most of the frame last, so that it is in sight even where not all fit.
    std::map<uint32_t, int64_t> times;
    for (const ExplainedFrame::Stay& stay : path) times[stay.lane] += stay.end - stay.begin;
    std::vector<std::pair<int64_t, uint32_t>> order;
    for (const auto& [lane, time] : times) order.emplace_back(time, lane);
    std::sort(order.begin(), order.end());
    for (const auto& [time, lane] : order) showLane(lane);
    const uint32_t owner = path.front().lane;
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
                picture_.setWaits(true);  // even if it was evicted again by now
                viewport()->update();
            });
        },
        [this](const QString&) { fetching_ = false; },  // it is drawn from summaries, as it is
        Urgency::Ahead);
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
    if (choosing_) {  // a range of time
        const QRect area = viewport()->rect();
        const int from = std::min(pressedAt_.x(), event->pos().x()), to = std::max(pressedAt_.x(), event->pos().x());
        selection_.selectRange(TimeRange{picture_.timeAt(area, from), picture_.timeAt(area, to)});
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

QString LanesView::tipOf(const MarkerWords& words) {
    QString tip = "<b>" + toQString(words.name).toHtmlEscaped() + "</b>";
    if (!words.category.empty()) tip += " · " + toQString(words.category).toHtmlEscaped();
    for (const std::string& line : words.lines) tip += "<br>" + toQString(line).toHtmlEscaped();
    return tip;
}

/// What is under the pointer is asked on another thread; it is told if the pointer is still there then.
void LanesView::tellMarker(const MarkerRef& marker, const QPoint& at) {
    telling_.ask(
        [recording = document_.recording(), e = document_.explanation(), marker](const Progress&) {
            return std::make_shared<const MarkerWords>(markerWords(*recording, e.get(), marker));
        },
        [this, at](const std::shared_ptr<const MarkerWords>& words) {
            if (pointedAt_ == at) QToolTip::showText(viewport()->mapToGlobal(at), richTip(tipOf(*words)), viewport());
        });
}

bool LanesView::viewportEvent(QEvent* event) {
    if (event->type() == QEvent::MouseMove || event->type() == QEvent::Leave) pointedAt_ = {-1, -1};
    if (event->type() == QEvent::ToolTip && document_.recording()) {
        const auto* help = static_cast<QHelpEvent*>(event);
        pointedAt_ = help->pos();
        const MarkerRef marker = picture_.markerAt(viewport()->rect(), scrolled(), help->pos());
        if (marker.valid()) {
            tellMarker(marker, help->pos());
            return true;
        }
        const QString words = picture_.wordsAt(viewport()->rect(), scrolled(), help->pos());
        if (!words.isEmpty())
            QToolTip::showText(help->globalPos(), richTip(words), viewport());
        else
            QToolTip::hideText();
        return true;
    }
    return QAbstractScrollArea::viewportEvent(event);
}

}  // namespace fugato
