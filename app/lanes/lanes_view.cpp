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
#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

namespace {

QString keyOf(const MarkerRef& marker) {
    return QString("%1 %2 %3").arg(marker.lane).arg(marker.row).arg(marker.index);
}

bool isIn(const Recording& r, const MarkerRef& m) {
    return m.lane < r.lanes.size() && m.row < r.lanes[m.lane].rows.size() &&
           m.index < r.lanes[m.lane].rows[m.row].size();
}

}  // namespace

LanesView::LanesView(Document& document, Selection& selection, SelectedFrame& selected, ArrangedLanes& arrangement,
                     QWidget* parent)
    : QAbstractScrollArea(parent),
      document_(document),
      selection_(selection),
      selected_(selected),
      arrangement_(arrangement),
      parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(260, 120);
    viewport()->setMouseTracking(true);
    viewport()->setAttribute(Qt::WA_OpaquePaintEvent);  // all of it is painted: nothing need be painted below
    setAccessibleName(tr("Lanes: what every thread and queue did"));
    if (const int width = settings::laneLabels().get(); width > 0) picture_.setLabelWidth(width);
    connect(&document, &Document::recordingChanged, this, &LanesView::takeRecording);
    connect(&document, &Document::contentChanged, this, [this] {
        const auto& drawn = picture_.recording();
        if (document_.growing() && drawn && opened_ == document_.opened() && selection_.view().end < drawn->end)
            catchUp();  // what is in view was there before
        else
            takeChoice();
        connectMarker();
        if (document_.growing() && !programs_.busy()) fetchPrograms();  // else the next time
    });
    connect(&selected, &SelectedFrame::changed, this, &LanesView::takeChoice);
    connect(&document, &Document::symbolsChanged, this, [this] { picture_.setSymbols(document_.symbols()); });
    connect(&selection, &Selection::viewChanged, this, &LanesView::takeView);
    connect(&selection, &Selection::chosenChanged, this, &LanesView::takeChoice);
    connect(&selection, &Selection::instantChanged, this, &LanesView::takeInstant);
    connect(&arrangement, &ArrangedLanes::changed, this, &LanesView::takeArrangement);
    connect(&arrangement, &ArrangedLanes::loaded, this, [this] {
        takeArrangement();
        verticalScrollBar()->setValue(0);
    });
    connect(&selection, &Selection::laneChanged, this, [this] {
        picture_.setSelectedLane(selection_.lane());
        viewport()->update();
    });
    connect(&selection, &Selection::laneWanted, this, &LanesView::lookAtLane);
    connect(&selection, &Selection::markersInFocusChanged, this, [this] {
        keepingPlace([this] {
            picture_.setInFocus(selection_.markersInFocus());
            return true;
        });
        arrangementChanged();
    });
    connect(&selection, &Selection::rangeChanged, this, [this] {
        picture_.setRange(selection_.range());
        viewport()->update();
    });
}

int LanesView::scrolled() const { return verticalScrollBar()->value(); }

void LanesView::takeRecording() {
    opened_ = document_.opened();
    shownMarker_ = connected_ = {};
    connections_.reset();
    picture_.setConnections(nullptr);
    for (BackgroundQuery* about : {&connecting_, &stepping_}) about->silence();
    picture_.setSymbols(document_.symbols());
    picture_.setRecording(document_.recording());
    parts_->forget();
    setRanges();
    verticalScrollBar()->setValue(0);
    viewport()->update();
    fetchPrograms();
}

/// A recording that grows is drawn a few times a second, or as soon as something else of it is to be shown.
void LanesView::catchUp() {
    if (opened_ != document_.opened()) return;  // another one: takeRecording()
    if (picture_.recording() != document_.recording()) {
        const size_t lanes = picture_.recording() ? picture_.recording()->lanes.size() : 0;
        keepingPlace([this] {
            picture_.setRecording(document_.recording(), true);
            return true;
        });
        if (const auto& now = document_.recording(); now && now->lanes.size() != lanes) arrangementChanged();
    }
    if (picture_.explanation() != document_.explanation())
        picture_.setExplanation(document_.explanation(), selection_.cause());
}

void LanesView::takeChoice() {
    catchUp();
    const auto& frame = selected_.shown();
    const uint32_t before = std::exchange(shownFrame_, frame ? frame->frame : kNone);
    picture_.setFrame(frame, selection_.cause());
    if (before != shownFrame_) takeWeights();
    setRanges();
    picture_.setMarker(selection_.marker());
    if (before != shownFrame_) showCriticalPath();
    const MarkerRef& marker = selection_.marker();
    const bool another = !(marker == shownMarker_);
    shownMarker_ = marker;
    if (marker.valid() && (another || before != shownFrame_)) reveal(marker);
    connectMarker();
    parts_->changed();
    if (another && marker.valid()) parts_->setCurrent(keyOf(marker));
    viewport()->update();
}

/// Finds what the selected marker is connected with; while the recording grows, again now and then.
void LanesView::connectMarker() {
    const MarkerRef& marker = selection_.marker();
    const auto& recording = document_.recording();
    const bool same = marker == connected_;
    if (same && (connectedIn_.lock() == recording || connecting_.busy())) return;
    if (same && document_.growing() && !connectPace_.due()) return;
    connected_ = marker;
    connectedIn_ = recording;
    connectPace_.begun();
    connecting_.silence();
    if (!same) {
        connections_.reset();
        picture_.setConnections(nullptr);
    }
    if (!marker.valid() || !recording || !isIn(*recording, marker)) return emit connectionsChanged();
    connecting_.ask(
        [recording, marker](const Progress& progress) { return connectionsOf(*recording, marker, progress); },
        [this](const std::shared_ptr<const Connections>& found) {
            connectPace_.done();
            connections_ = found;
            picture_.setConnections(found);
            viewport()->update();
            emit connectionsChanged();
        });
}

void LanesView::goTo(const Connection& connection) {
    const Connection to = connection;  // its list may go with what is selected
    if (to.marker.valid())
        selection_.lookAtMarker(to.marker);
    else if (const int64_t half = (selection_.view().end - selection_.view().begin) / 2;
             to.there < selection_.view().begin || to.there >= selection_.view().end)
        selection_.showSpan(to.there - half, to.there + half, true);
    showLane(to.lane);
    selection_.chooseInstant(to.there);
}

void LanesView::goAlong() {
    if (!selection_.marker().valid())
        return emit said(tr("Select a marker first; then this goes to one that it is connected with."));
    if (!connections_) return emit said(tr("What this marker is connected with is being looked up."));
    if (connections_->list.empty()) return emit said(tr("No other marker is known to be connected with this one."));
    if (connections_->list.size() == 1) return goTo(connections_->list.front());
    QMenu menu(this);
    addConnections(menu);
    const QRect box = picture_.markerRect(viewport()->rect(), scrolled(), selection_.marker());
    menu.setActiveAction(menu.actions().front());
    menu.exec(viewport()->mapToGlobal(box.isEmpty() ? viewport()->rect().center() : box.bottomLeft()));
}

void LanesView::takeInstant() {
    LanePicture::Marks marks{selection_.instant(), selection_.anchor(), {}};
    if (marks.anchor) marks.to = pointedTime_;
    picture_.setMarks(marks);
    viewport()->update();
}

/// The time under a place; a marker's begin or end where one lies near.
int64_t LanesView::timeNear(const QPoint& at) const {
    constexpr int kNear = 4;  // pixels
    const QRect area = viewport()->rect();
    const int64_t time = picture_.timeAt(area, at.x());
    const MarkerRef marker = picture_.markerAt(area, scrolled(), at);
    const int64_t reach = picture_.timeAt(area, at.x() + kNear) - time;
    if (marker.valid())
        if (const auto edge = edgeNear(document_.recording()->lanes[marker.lane].rows[marker.row], time, reach))
            return *edge;
    return time;
}

int64_t LanesView::instantOrBegin() const {
    if (const auto chosen = selection_.instant()) return *chosen;
    const MarkerRef& marker = selection_.marker();
    if (marker.valid()) return document_.recording()->lanes[marker.lane].rows[marker.row].begin(marker.index);
    return selection_.view().begin + (selection_.view().end - selection_.view().begin) / 2;
}

void LanesView::measure() {
    if (!document_.recording()) return;
    if (selection_.anchor()) return selection_.setAnchor(std::nullopt);
    selection_.setAnchor(instantOrBegin());
    emit said(
        tr("Measuring from here to the pointer, or to the instant that a click or “.” and “,” choose; M ends it."));
}

QString LanesView::measuredText() const {
    const auto from = selection_.anchor();
    const auto to = pointedTime_ ? pointedTime_ : selection_.instant();
    if (!from || !to || !document_.recording()) return {};
    const int64_t zero = document_.recording()->begin;
    const auto text = [](int64_t ns) { return toQString(exactText(ns)); };
    return tr("%1 from %2 to %3 (%4 ns)")
        .arg(text(*to - *from), text(*from - zero), text(*to - zero), QString::number(*to - *from));
}

void LanesView::stepInstant(EdgeOf of, bool forward) {
    const auto recording = document_.recording();
    if (!recording) return;
    const auto& e = document_.explanation();
    stepping_.ask(
        [recording, of, forward, from = instantOrBegin(), lane = selectedLane(),
         series = e ? e->series : 0](const Progress&) {
            return std::make_shared<const std::optional<int64_t>>(
                edgeBeside(*recording, of, of == EdgeOf::Markers ? lane : kNone, series, from, forward));
        },
        [this, forward](const std::shared_ptr<const std::optional<int64_t>>& found) {
            if (!*found)
                return emit said(forward ? tr("There is none after this one.") : tr("There is none before this one."));
            pointedTime_.reset();  // what the keyboard does counts now
            selection_.chooseInstant(*found);
            selection_.showInstant();
            const QString measured = measuredText();
            emit said(measured.isEmpty()
                          ? tr("instant %1").arg(toQString(exactText(**found - document_.recording()->begin)))
                          : measured);
        });
}

/// The selected lane, else the topmost.
uint32_t LanesView::selectedLane() const {
    const auto& recording = document_.recording();
    if (recording && selection_.lane() < recording->lanes.size()) return selection_.lane();
    const std::vector<uint32_t> lanes = picture_.lanesFromTop();
    return lanes.empty() ? kNone : lanes.front();
}

/// Lanes may get more or fewer rows by a change, which tells whether they did. The lane under the pointer, else that of
/// the selected marker where it is in sight, else the topmost, stays where it is.
void LanesView::keepingPlace(const std::function<bool()>& change) {
    const QRect area = viewport()->rect();
    const QPoint pointer = viewport()->mapFromGlobal(QCursor::pos());
    uint32_t lane = kNone;
    if (picture_.recording()) {
        if (area.contains(pointer) && viewport()->underMouse())
            lane = picture_.laneAt(area, scrolled(), pointer.y());
        else if (shownMarker_.valid() && area.intersects(picture_.markerRect(area, scrolled(), shownMarker_)))
            lane = shownMarker_.lane;
        else
            lane = picture_.laneAt(area, scrolled(), picture_.axisOf(area).top());
    }
    const int before = lane == kNone ? 0 : picture_.laneRect(area, scrolled(), lane).top();
    if (!change() || !picture_.recording()) return;
    setRanges();
    if (lane != kNone && !dragging_)
        verticalScrollBar()->setValue(scrolled() + picture_.laneRect(area, scrolled(), lane).top() - before);
}

void LanesView::takeView() {
    catchUp();
    keepingPlace([this] { return picture_.setView(selection_.view().begin, selection_.view().end, dragging_); });
    parts_->changed();
    viewport()->update();
}

/// Opens the marker's lane and scrolls to its row.
void LanesView::reveal(const MarkerRef& marker) {
    picture_.reveal(marker.lane, marker.row);
    setRanges();
    const QRect area = viewport()->rect(), lane = picture_.laneRect(area, scrolled(), marker.lane);
    const int top = lane.top() + LanePicture::kRail + static_cast<int>(marker.row) * LanePicture::kRowHeight,
              bottom = top + LanePicture::kRowHeight;
    const int first = picture_.scrolledPart(area).top();
    if (picture_.fixed(marker.lane)) return;  // it is in sight
    if (top - LanePicture::kRail < first)
        verticalScrollBar()->setValue(scrolled() + top - LanePicture::kRail - first);
    else if (bottom > area.bottom())
        verticalScrollBar()->setValue(scrolled() + bottom - area.bottom());
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
    if (!programsShown_ || !recording || document_.reading() || !tellsOtherPrograms(*recording)) return;
    programs_.ask([recording](const Progress& progress) { return otherPrograms(*recording, kMost, progress); },
                  [this](const std::shared_ptr<const OtherProgramList>& found) {
                      picture_.setPrograms(found);
                      setRanges();
                      viewport()->update();
                  });
}

void LanesView::showLane(uint32_t lane) {
    const QRect area = viewport()->rect(), box = picture_.laneRect(area, scrolled(), lane);
    const int first = picture_.scrolledPart(area).top();
    if (picture_.fixed(lane)) return;
    if (box.top() < first)
        verticalScrollBar()->setValue(scrolled() + box.top() - first);
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
    picture_.paint(painter, area, scrolled());
    picture_.setWaits(false);
    parts_->forget();  // other markers are drawn
    parts_->paintPanelFocus(painter, area);
    fetchMissing();
    emit painted();
}

QSize LanesView::sizeOfAll() const { return {viewport()->width(), picture_.height() + LanePicture::kHeaderHeight}; }

void LanesView::paintTo(QPainter& painter, bool all) {
    picture_.setWaits(true);
    picture_.paint(painter, all ? QRect(QPoint(0, 0), sizeOfAll()) : viewport()->rect(), all ? 0 : scrolled());
    picture_.setWaits(false);
    viewport()->update();  // what is known of the last painting is of another place
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
                keepingPlace([this] { return picture_.measureAgain(); });
                parts_->changed();
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
    parts_->leaveKeyboard();
    dragging_ = true;
    moved_ = false;
    pressedAt_ = event->pos();
    pressedView_ = selection_.view();
    pressedScroll_ = scrolled();
    widening_ = onLabelEdge(event->pos());
    draggedLane_ =
        !widening_ && onLabel(event->pos()) ? picture_.laneAt(viewport()->rect(), scrolled(), event->pos().y()) : kNone;
    choosing_ = event->modifiers() & Qt::ShiftModifier && document_.recording();
}

bool LanesView::onLabelEdge(const QPoint& at) const {
    constexpr int kNear = 4;
    return std::abs(at.x() - picture_.labelWidth()) <= kNear;
}

void LanesView::mouseMoveEvent(QMouseEvent* event) {
    if (!dragging_) {
        if (selection_.anchor() && document_.recording()) {
            const bool onAxis = picture_.axisOf(viewport()->rect()).contains(event->pos());
            pointedTime_ = onAxis ? std::optional(timeNear(event->pos())) : std::nullopt;
            takeInstant();
        }
        viewport()->setCursor(onLabelEdge(event->pos()) ? Qt::SplitHCursor : Qt::ArrowCursor);
        return;
    }
    if (widening_) {
        picture_.setLabelWidth(event->pos().x());
        viewport()->update();
        return;
    }
    const QPoint by = event->pos() - pressedAt_;
    if (!moved_ && by.manhattanLength() < 5) return;
    moved_ = true;
    if (draggedLane_ != kNone) return dragLane(event->pos());
    if (choosing_) {  // a range of time
        const QRect area = viewport()->rect();
        const int from = std::min(pressedAt_.x(), event->pos().x()), to = std::max(pressedAt_.x(), event->pos().x());
        selection_.selectRange(TimeRange{picture_.timeAt(area, from), picture_.timeAt(area, to)});
        viewport()->setCursor(Qt::IBeamCursor);
        return;
    }
    viewport()->setCursor(Qt::ClosedHandCursor);
    const double nsPerPixel = static_cast<double>(pressedView_.end - pressedView_.begin) /
                              std::max(1, viewport()->width() - picture_.labelWidth());
    const auto shift = static_cast<int64_t>(-by.x() * nsPerPixel);
    selection_.showSpan(pressedView_.begin + shift, pressedView_.end + shift);
    verticalScrollBar()->setValue(pressedScroll_ - by.y());
}

void LanesView::mouseReleaseEvent(QMouseEvent* event) {
    if (!dragging_ || event->button() != Qt::LeftButton) return;
    dragging_ = false;
    viewport()->unsetCursor();
    if (std::exchange(widening_, false)) return settings::laneLabels().set(picture_.labelWidth());
    if (!document_.recording()) return;
    if (moved_ && draggedLane_ != kNone) return dropLane(event->pos());
    if (moved_) return takeView();  // rows that are no longer needed go
    if (!arrange(event->pos())) clickAt(event->pos());
}

/// Selects the marker there, or that in which the point there was told; and the instant.
void LanesView::clickAt(const QPoint& at) {
    const QRect area = viewport()->rect();
    const auto& recording = document_.recording();
    const bool onAxis = at.x() >= picture_.axisOf(area).left();
    int64_t time = onAxis ? timeNear(at) : 0;
    MarkerRef marker = picture_.markerAt(area, scrolled(), at);
    if (const Point* point = picture_.pointAt(area, scrolled(), at)) {
        time = point->time;
        marker = markerAtInstant(*recording, point->lane, point->time);
    }
    selection_.chooseMarker(marker);
    if (onAxis) selection_.chooseInstant(time);
}

/// What a click does beside selecting a marker: a frame in the header, folding, opening a slim lane.
bool LanesView::arrange(const QPoint& at) {
    const QRect area = viewport()->rect();
    if (picture_.leftOutRect(area).contains(at)) {
        QMenu menu(this);
        fillLeftOutMenu(menu);
        menu.exec(viewport()->mapToGlobal(picture_.leftOutRect(area).bottomLeft()));
        return true;
    }
    if (at.y() < LanePicture::kHeaderHeight) {
        const auto& e = document_.explanation();
        if (!e) return true;
        const uint32_t frame = document_.recording()->series[e->series].frameAt(picture_.timeAt(area, at.x()));
        if (frame != kNone) selection_.chooseFrame(frame);
        return true;
    }
    const uint32_t lane = picture_.laneAt(area, scrolled(), at.y());
    if (lane == kNone) return false;
    const bool fold = picture_.foldRect(area, scrolled(), lane).contains(at);
    if (!fold && !picture_.slim(lane)) {
        if (onLabel(at)) selection_.chooseLane(lane);
        return onLabel(at);
    }
    if (!fold) {
        openSlim(lane);
        return true;
    }
    const bool open = picture_.folded(lane);
    picture_.foldRevealed(lane);
    arrangement_.change([&](LaneArrangement& a) {
        const std::string& key = picture_.keys().lanes[lane];
        open ? void(a.unfolded.insert(key)) : void(a.unfolded.erase(key));
    });
    arrangementChanged();
    return true;
}

/// What the person folded is opened for good, what made room until another frame is selected.
void LanesView::openSlim(uint32_t lane) {
    selection_.chooseLane(lane);
    if (!picture_.foldedByHand(lane)) {
        picture_.openSlim(lane);
        return arrangementChanged();
    }
    arrangement_.change([&](LaneArrangement& a) {
        const LaneKeys& keys = picture_.keys();
        a.folded.erase(keys.lanes[lane]);
        if (const uint32_t group = document_.recording()->lanes[lane].group; group < keys.groups.size())
            a.folded.erase(keys.groups[group]);
    });
}

void LanesView::mouseDoubleClickEvent(QMouseEvent* event) {
    if (!document_.recording()) return;
    const MarkerRef marker = picture_.markerAt(viewport()->rect(), scrolled(), event->pos());
    if (!marker.valid()) return;
    selection_.showMarker(marker);
}

void LanesView::keyPressEvent(QKeyEvent* event) {
    const int64_t middle = (selection_.view().begin + selection_.view().end) / 2;
    const auto keys = event->modifiers() & ~Qt::KeypadModifier;
    const int key = event->key();
    if (event->matches(QKeySequence::Copy)) {
        if (selection_.marker().valid()) copyText(nameOf(selection_.marker()));
        return;
    }
    if (key == Qt::Key_Escape && selection_.anchor()) return selection_.setAnchor(std::nullopt);
    if (key == Qt::Key_Escape && selection_.instant()) return selection_.chooseInstant(std::nullopt);
    if (keys == Qt::NoModifier) switch (key) {
            case Qt::Key_Right: return step(MarkerStep::Next);
            case Qt::Key_Left: return step(MarkerStep::Previous);
            case Qt::Key_Down: return step(MarkerStep::In);
            case Qt::Key_Up: return step(MarkerStep::Out);
            case Qt::Key_Return:
            case Qt::Key_Enter: return selection_.showMarker(selection_.marker());
            default: break;
        }
    if (keys == Qt::ShiftModifier && (key == Qt::Key_Left || key == Qt::Key_Right))
        return selection_.pan(key == Qt::Key_Left ? -0.15 : 0.15);
    if (keys == Qt::ControlModifier && (key == Qt::Key_Up || key == Qt::Key_Down)) {
        const int by = LanePicture::kRowHeight * 2;
        return verticalScrollBar()->setValue(scrolled() + (key == Qt::Key_Up ? -by : by));
    }
    if (key == Qt::Key_Plus || key == Qt::Key_Equal) return selection_.zoom(0.7, middle);
    if (key == Qt::Key_Minus) return selection_.zoom(1 / 0.7, middle);
    event->ignore();
}

/// Selects the marker one step further, and moves it into view.
void LanesView::step(MarkerStep step) {
    const auto& recording = document_.recording();
    if (!recording) return;
    const View& view = selection_.view();
    const MarkerRef found =
        markerBeside(*recording, picture_.lanesFromTop(), view.begin, view.end, selection_.marker(), step);
    if (found.valid()) selection_.lookAtMarker(found);
}

/// "Simulate, 12.3 ms on main, begins at 0.040 211 s".
QString LanesView::nameOf(const MarkerRef& marker) const {
    const Recording& r = *document_.recording();
    const MarkerRow& row = r.lanes[marker.lane].rows[marker.row];
    return tr("%1, %2 on %3, begins at %4")
        .arg(toQString(r.nameOf(row.path(marker.index))), toQString(durationText(row.duration(marker.index))),
             toQString(r.lanes[marker.lane].name), toQString(instantText(row.begin(marker.index) - r.begin)));
}

std::vector<PaintedPart> LanesView::listParts() {
    std::vector<PaintedPart> parts;
    const auto& recording = document_.recording();
    if (!recording) return parts;
    const QRect area = viewport()->rect();
    std::map<uint32_t, int> places;  // of lanes, in parts
    for (const uint32_t lane : picture_.lanesFromTop()) {
        PaintedPart part;
        part.key = "lane " + QString::number(lane);
        part.box = picture_.laneRect(area, 0, lane);
        part.role = QAccessible::Grouping;
        part.name = picture_.labelOf(lane);
        part.fixed = picture_.fixed(lane);
        if (picture_.slim(lane)) {
            part.more = tr("slim; opens at a click");
            part.act = [this, lane] { openSlim(lane); };
        }
        places[lane] = static_cast<int>(parts.size());
        parts.push_back(std::move(part));
    }
    const auto add = [&](const MarkerRef& marker) {
        PaintedPart part;
        part.key = keyOf(marker);
        part.box = picture_.markerRect(area, 0, marker);
        part.role = QAccessible::ListItem;
        part.name = nameOf(marker);
        part.selected = marker == selection_.marker();
        part.within = places.count(marker.lane) ? places[marker.lane] : -1;
        part.fixed = part.within >= 0 && parts[static_cast<size_t>(part.within)].fixed;
        part.act = [this, marker] { selection_.lookAtMarker(marker); };
        parts.push_back(std::move(part));
    };
    // Until the selection has heard of another recording, its marker is of the one before.
    bool chosen = !selection_.marker().valid() || !isIn(*recording, selection_.marker());
    for (const MarkerRef& marker : picture_.drawnAlone()) {
        add(marker);
        chosen = chosen || marker == selection_.marker();
    }
    if (!chosen) add(selection_.marker());  // however narrow
    return parts;
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
    if (event->type() == QEvent::Leave && pointedTime_) {
        pointedTime_.reset();
        takeInstant();
    }
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
