// SPDX-License-Identifier: GPL-3.0-or-later
#include "overrun_strip.h"

#include <QApplication>
#include <QClipboard>
#include <QHelpEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <cmath>

#include "app/document/document.h"
#include "app/notes/note_places.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

OverrunStrip::OverrunStrip(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent),
      document_(document),
      selection_(selection),
      parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFixedHeight(kHeight);
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);  // all of it is painted: nothing need be painted below
    setAccessibleName(tr("Overrun of every frame against its deadline"));
    connect(&document, &Document::recordingChanged, this, &OverrunStrip::layOut);
    connect(&document, &Document::explanationChanged, this, &OverrunStrip::layOut);
    connect(&document.trials(), &Trials::changed, this, [this] {
        if (shownPrediction_ != document_.trials().prediction()) layOut();
    });
    connect(&selection, &Selection::viewChanged, this, qOverload<>(&QWidget::update));
    connect(&selection, &Selection::instantChanged, this, qOverload<>(&QWidget::update));
    for (const auto signal : {&Notes::changed, &Notes::loaded})
        connect(&document.notes(), signal, this, [this] {
            parts_->changed();
            update();
        });
    connect(&document, &Document::newFramesChanged, this,
            [this] { change([this] { picture_.setNewFrames(document_.newFrames()); }); });
    connect(&selection, &Selection::chosenChanged, this, [this] {
        if (picture_.explanation() != document_.explanation()) return layOut();
        if (shownCause_ != selection_.cause())
            change([this] {
                shownCause_ = selection_.cause();
                picture_.setCause(shownCause_, document_.newFrames());
            });
        parts_->changed();
        update();
    });
}

void OverrunStrip::layOut() {
    change([this] {
        shownPrediction_ = document_.trials().prediction();
        shownCause_ = selection_.cause();
        picture_.layOut(document_.explanation(), area().width(), shownPrediction_, shownCause_, document_.newFrames());
    });
    parts_->changed();
    update();
}

/// Changes the picture; what is different in it is to be drawn again.
void OverrunStrip::change(const std::function<void()>& how) {
    const StripPicture before = picture_;
    how();
    const StripPicture::Range range = picture_.changedSince(before);
    if (range.empty()) return;
    stale_ =
        stale_.empty() ? range : StripPicture::Range{std::min(stale_.from, range.from), std::max(stale_.to, range.to)};
    update(area().left() + range.from, area().top(), range.to - range.from, area().height());
}

void OverrunStrip::draw() {
    const QSize size = area().size() * devicePixelRatioF();
    if (drawn_.size() != size) {
        drawn_ = QPixmap(size);
        drawn_.setDevicePixelRatio(devicePixelRatioF());
        stale_ = picture_.all();
    }
    if (stale_.empty()) return;
    QPainter painter(&drawn_);
    picture_.paint(painter, QRect(QPoint(0, 0), area().size()), std::exchange(stale_, {}));
}

std::vector<PaintedPart> OverrunStrip::listParts() {
    std::vector<PaintedPart> parts;
    const auto& e = document_.explanation();
    if (!e || e->frames.empty()) return parts;
    const QRect a = area();
    const auto add = [&](const QString& key, int64_t begin, int64_t end) -> PaintedPart& {
        PaintedPart& part = parts.emplace_back();
        part.key = key;
        const int left = a.left() + static_cast<int>(picture_.xAt(begin)),
                  right = a.left() + static_cast<int>(picture_.xAt(end));
        part.box = QRect(left - 2, a.top(), std::max(5, right - left + 4), a.height());
        return part;
    };
    if (selection_.frame() < e->frames.size()) {
        const Frame& frame = e->frame(selection_.frame());
        PaintedPart& part = add("selected", frame.begin, frame.end);
        part.name = linesFor(selection_.frame()).join('\n');
        part.act = [this] { selection_.showFrame(); };
        part.selected = true;
        part.more = tr("the selected frame; Left and Right go to the one before and after");
    }
    if (const State* stages = e->recording->stages())
        for (const StateSpan& span : stages->spans)
            add("stage " + QString::number(span.begin), span.begin, span.end).name =
                tr("stage %1, from %2, %3")
                    .arg(toQString(e->recording->text(span.value)),
                         toQString(instantText(span.begin - e->recording->begin)),
                         toQString(durationText(span.end - span.begin)));
    for (const Note& note : document_.notes().all()) {
        const auto range = timeOf(note, *e->recording);
        if (!range) continue;
        PaintedPart& part = add("note " + toQString(note.id), range->begin, range->end);
        part.name = tr("note on %1: %2").arg(toQString(note.name), toQString(note.text));
        part.act = [this, note] { goToNote(note, document_, selection_); };
    }
    for (const Spike& spike : e->spikes) {
        PaintedPart& part =
            add("spike " + QString::number(spike.first), e->frame(spike.first).begin, e->frame(spike.last).end);
        const uint32_t worst = e->worstFrameOf(spike);
        part.role = QAccessible::ListItem;
        part.name = tr("spike at frame %1: %2, %3 late, cause %4")
                        .arg(toQString(countText(spike.first)),
                             toQString(plural(spike.last - spike.first + 1, "frame", "frames")),
                             toQString(durationText(spike.late)), toQString(e->causes[spike.cause].letter));
        part.selected = selection_.frame() >= spike.first && selection_.frame() <= spike.last;
        part.act = [this, worst] { selection_.chooseFrame(worst); };
        part.actsOnArrival = true;
    }
    return parts;
}

void OverrunStrip::keyPressEvent(QKeyEvent* event) {
    const auto keys = event->modifiers() & ~Qt::KeypadModifier;
    if (keys == Qt::NoModifier && (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right))
        return selection_.stepFrame(event->key() == Qt::Key_Left ? -1 : 1);
    if (keys == Qt::ShiftModifier && (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right))
        return selection_.pan(event->key() == Qt::Key_Left ? -0.2 : 0.2);
    if (!parts_->press(*event)) QWidget::keyPressEvent(event);
}

void OverrunStrip::contextMenuEvent(QContextMenuEvent* event) {
    if (!document_.explanation()) return;
    QMenu menu(this);
    const uint32_t frame = event->reason() == QContextMenuEvent::Keyboard ? selection_.frame() : frameNear(event->x());
    if (frame < document_.explanation()->frames.size()) {
        const QString words = linesFor(frame).join('\n');
        menu.addAction(tr("&Select frame %1").arg(toQString(countText(frame))), this,
                       [this, frame] { selection_.chooseFrame(frame); });
        menu.addAction(tr("&Copy what is said of frame %1").arg(toQString(countText(frame))), this,
                       [words] { QApplication::clipboard()->setText(words); });
        menu.addSeparator();
    }
    menu.addAction(tr("Add a no&te…"), this, &OverrunStrip::noteWanted);
    menu.addAction(tr("Show the &whole recording"), this, [this] { selection_.showWhole(); });
    menu.exec(event->globalPos());
}

void OverrunStrip::resizeEvent(QResizeEvent*) { layOut(); }

void OverrunStrip::changeEvent(QEvent* event) {
    if (event->type() == QEvent::PaletteChange || event->type() == QEvent::StyleChange) drawn_ = {};
}

QRect OverrunStrip::windowRect() const {
    const QRect a = area();
    const double from = picture_.xAt(selection_.view().begin), to = picture_.xAt(selection_.view().end);
    const double middle = (from + to) / 2, half = std::max(4.0, (to - from) / 2);
    return QRect(QPoint(a.left() + static_cast<int>(std::floor(middle - half)), a.top()),
                 QPoint(a.left() + static_cast<int>(std::ceil(middle + half)), a.bottom() - StripPicture::kStageHeight))
        .intersected(a.adjusted(-2, 0, 2, 0));  // not over the stages' names
}

void OverrunStrip::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme().panel);
    if (paintEmpty(painter)) return;
    draw();
    painter.drawPixmap(area().topLeft(), drawn_);
    paintOver(painter);
    parts_->paintPanelFocus(painter, rect());
}

/// Where there are no frames, why.
bool OverrunStrip::paintEmpty(QPainter& painter) const {
    if (document_.explanation() && !document_.explanation()->frames.empty()) return false;
    painter.fillRect(area(), theme().paper);
    painter.setPen(theme().muted);
    painter.setFont(textFont());
    painter.drawText(area(), Qt::AlignCenter,
                     document_.recording() ? document_.whyUnexplained()
                                           : tr("Each frame of a recording stands here against its deadline."));
    return true;
}

void OverrunStrip::paintTo(QPainter& painter) {
    painter.fillRect(rect(), theme().panel);
    if (paintEmpty(painter)) return;
    painter.save();
    painter.translate(area().topLeft());
    picture_.paint(painter, QRect(QPoint(0, 0), area().size()), picture_.all());
    painter.restore();
    paintOver(painter);
}

/// Where a note is marked at the top of the strip; empty where it is about no time.
QRect OverrunStrip::markOf(const Note& note) const {
    constexpr int kHalf = 4, kHigh = 6;
    const auto range = document_.recording() ? timeOf(note, *document_.recording()) : std::nullopt;
    if (!range) return {};
    const int x = area().left() + static_cast<int>(picture_.xAt(range->begin));
    return {x - kHalf, area().top(), 2 * kHalf + 1, kHigh};
}

const Note* OverrunStrip::noteAt(const QPoint& at) const {
    for (const Note& note : document_.notes().all())
        if (markOf(note).adjusted(-1, -2, 1, 3).contains(at)) return &note;
    return nullptr;
}

/// The window on what is in view, and the instant.
void OverrunStrip::paintOver(QPainter& painter) {
    const Theme& t = theme();
    const QRect a = area();
    QColor veil = t.path;
    veil.setAlpha(18);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(QPen(t.path, 1.6));
    painter.setBrush(veil);
    painter.drawRoundedRect(QRectF(windowRect()).adjusted(0.5, 0.5, -0.5, -0.5), 3, 3);
    painter.setPen(QPen(t.text, 1));
    for (const Note& note : document_.notes().all()) {
        const QRectF mark = markOf(note);
        if (mark.isEmpty()) continue;
        const bool open = note.state == NoteState::None || note.state == NoteState::ToMend;
        painter.setBrush(open ? t.text : t.panel);
        const QPointF corners[] = {mark.topLeft(), mark.topRight(), {mark.center().x(), mark.bottom()}};
        painter.drawPolygon(corners, 3);
    }
    painter.setBrush(Qt::NoBrush);
    painter.setRenderHint(QPainter::Antialiasing, false);
    painter.setPen(t.text);
    for (const auto& time : {selection_.instant(), selection_.anchor()})
        if (time) {
            const int x = a.left() + static_cast<int>(picture_.xAt(*time));
            painter.drawLine(x, a.top(), x, a.bottom());
        }
}

uint32_t OverrunStrip::frameNear(int x) const {
    const auto& columns = picture_.columns();
    const int at = x - area().left();
    uint32_t found = kNone;
    int64_t most = -1;
    for (int reach = 0; reach < 4; ++reach) {  // a spike is one pixel wide: be generous
        for (const int c : {at - reach, at + reach}) {
            if (c < 0 || c >= static_cast<int>(columns.size())) continue;
            const auto& column = columns[static_cast<size_t>(c)];
            if (!column.explained || column.overrun <= most) continue;
            if (found != kNone && column.overrun == 0) continue;
            most = column.overrun;
            found = column.worst;
        }
    }
    return found;
}

void OverrunStrip::mousePressEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return;
    parts_->leaveKeyboard();
    pressedAt_ = event->pos();
    pressedBegin_ = selection_.view().begin;
    dragging_ = true;
    moved_ = false;
}

void OverrunStrip::mouseMoveEvent(QMouseEvent* event) {
    if (!dragging_) return;
    if (!moved_ && (event->pos() - pressedAt_).manhattanLength() < 5) return;
    moved_ = true;
    const int64_t by = picture_.timeAt(event->pos().x()) - picture_.timeAt(pressedAt_.x());
    const int64_t length = selection_.view().end - selection_.view().begin;
    selection_.showSpan(pressedBegin_ + by, pressedBegin_ + by + length);
}

void OverrunStrip::mouseReleaseEvent(QMouseEvent* event) {
    if (!dragging_ || event->button() != Qt::LeftButton) return;
    dragging_ = false;
    if (moved_) return;
    if (const Note* const note = noteAt(event->pos())) return goToNote(*note, document_, selection_);
    if (const uint32_t frame = frameNear(event->pos().x()); frame != kNone) selection_.chooseFrame(frame);
}

void OverrunStrip::wheelEvent(QWheelEvent* event) {
    const double steps = event->angleDelta().y() / 120.0;
    if (event->modifiers() & Qt::ControlModifier)
        selection_.zoom(std::pow(0.8, steps), picture_.timeAt(event->position().x() - area().left()));
    else
        selection_.pan(-0.2 * steps);
    event->accept();
}

/// What is said of a frame, line by line.
QStringList OverrunStrip::linesFor(uint32_t index) const {
    const Explanation& e = *document_.explanation();
    const FrameVerdict& frame = e.frames[index];
    QStringList lines{tr("Frame %1 · %2, deadline %3")
                          .arg(toQString(countText(index)), toQString(durationText(e.frame(index).duration())),
                               toQString(durationText(frame.deadline)))};
    if (frame.overrun) {
        lines << tr("%1 late").arg(toQString(durationText(frame.overrun)));
        if (const auto& p = document_.trials().prediction())
            lines.back() += p->overrun[index]
                                ? tr("; %1 late in the simulation").arg(toQString(durationText(p->overrun[index])))
                                : tr("; in time in the simulation");
        for (const CauseShare& share : e.sharesOf(frame))
            lines << toQString(e.causes[share.cause].letter + "  " + causeTitle(e, e.causes[share.cause]));
    } else {
        lines << tr("%1 of headroom").arg(toQString(durationText(frame.deadline - frame.work)));
        if (frame.state == FrameState::Near) lines.back() += tr(", near its deadline");
    }
    const Bound bound = Bounds(*e.recording, *e.pathSums).of(index);
    lines << tr("bound by %1").arg(toQString(boundText(*e.recording, bound.by, bound.group)));
    return lines;
}

/// What is known of a frame that is not explained yet.
QString OverrunStrip::newFrameNear(int x) const {
    const auto& columns = picture_.columns();
    const int at = x - area().left();
    if (at < 0 || at >= static_cast<int>(columns.size())) return {};
    const auto& column = columns[static_cast<size_t>(at)];
    const size_t known = document_.explanation()->frames.size();
    if (column.worst == kNone || column.worst < known || column.worst - known >= document_.newFrames().size())
        return {};
    const Frame& frame = document_.newFrames()[column.worst - known].frame;
    return tr("Frame %1 · %2, not explained yet")
        .arg(toQString(countText(column.worst)), toQString(durationText(frame.duration())));
}

QString OverrunStrip::pointNear(int x) const {
    const auto& columns = picture_.columns();
    const Recording& r = *document_.recording();
    for (int reach = 0; reach < 4; ++reach)
        for (const int c : {x - area().left() - reach, x - area().left() + reach}) {
            if (c < 0 || c >= static_cast<int>(columns.size()) || columns[static_cast<size_t>(c)].point == kNone)
                continue;
            const Point& point = r.points[columns[static_cast<size_t>(c)].point];
            return tr("<b>%1</b><br>%2 on %3, %4")
                .arg(toQString(r.text(point.text)).toHtmlEscaped(), toQString(kindOf(point)),
                     toQString(r.lanes[point.lane].name).toHtmlEscaped(), toQString(durationText(point.time)));
        }
    return {};
}

bool OverrunStrip::event(QEvent* event) {
    if (event->type() != QEvent::ToolTip || !document_.explanation()) return QWidget::event(event);
    const auto* help = static_cast<QHelpEvent*>(event);
    const QString point =
        help->pos().y() > area().bottom() - StripPicture::kStageHeight ? pointNear(help->pos().x()) : QString();
    const uint32_t frame = frameNear(help->pos().x());
    if (const Note* const note = noteAt(help->pos()))
        QToolTip::showText(help->globalPos(), plainTip(toQString(noteText(*note))), this);
    else if (!point.isEmpty())
        QToolTip::showText(help->globalPos(), richTip(point), this);
    else if (const QString words = newFrameNear(help->pos().x()); frame == kNone && !words.isEmpty())
        QToolTip::showText(help->globalPos(), plainTip(words), this);
    else if (frame == kNone)
        QToolTip::hideText();
    else
        QToolTip::showText(help->globalPos(), plainTip(linesFor(frame).join('\n')), this);
    return true;
}

}  // namespace fugato
