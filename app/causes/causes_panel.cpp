// SPDX-License-Identifier: GPL-3.0-or-later
#include "causes_panel.h"

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>
#include <QToolTip>
#include <algorithm>

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

namespace {
constexpr int kTop = 30, kCauseHeight = 56, kSpikeHeight = 20, kMargin = 6, kBesidePlaces = 8;
constexpr size_t kFewSpikes = 6, kFewHolders = 5;
}  // namespace

CausesPanel::CausesPanel(Document& document, Selection& selection, QWidget* parent)
    : QAbstractScrollArea(parent),
      document_(document),
      selection_(selection),
      parts_(new PaintedParts(this, [this] { return listParts(); })) {
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumWidth(200);
    setAccessibleName(tr("Causes of late frames"));
    viewport()->setAttribute(Qt::WA_OpaquePaintEvent);
    connect(&document, &Document::recordingChanged, this, &CausesPanel::take);
    connect(&document, &Document::contentChanged, this, [this](bool fresh) {
        take();
        if (fresh) showSelected();
    });
    connect(&document.trials(), &Trials::changed, this, [this] {
        parts_->changed();
        viewport()->update();
    });
    connect(&selection, &Selection::chosenChanged, this, [this] {
        layOut();
        showSelected();
    });
}

/// Scrolls so that the selected spike is in sight, or the selected cause where none is.
void CausesPanel::showSelected() {
    const auto& e = shown_;
    QRect wanted;
    for (const Row& row : rows_) {
        if (row.cause != openCause_ || openCause_ == kNone) continue;
        if (wanted.isNull()) wanted = row.box;
        if (row.spike != kNone && selection_.frame() >= e->spikes[row.spike].first &&
            selection_.frame() <= e->spikes[row.spike].last)
            wanted = row.box;
    }
    if (wanted.isNull()) return;
    QScrollBar* bar = verticalScrollBar();
    if (wanted.top() < bar->value()) bar->setValue(wanted.top() - kMargin);
    if (wanted.bottom() > bar->value() + viewport()->height())
        bar->setValue(wanted.bottom() + kMargin - viewport()->height());
}

std::vector<PaintedPart> CausesPanel::listParts() {
    std::vector<PaintedPart> parts;
    int cause = -1;
    for (const Row& row : rows_) {
        PaintedPart part = partOf(row);
        const bool head = row.cause != kNone && row.spike == kNone && row.part == kNone && !row.more;
        if (head) cause = static_cast<int>(parts.size());
        if (!head && row.cause != kNone) part.within = cause;
        parts.push_back(std::move(part));
    }
    return parts;
}

/// A row as it is read aloud and copied: in full, also where it is painted cut.
PaintedPart CausesPanel::partOf(const Row& row) {
    const Explanation& e = *shown_;
    PaintedPart part;
    part.box = row.box;
    part.role = QAccessible::ListItem;
    part.act = [this, row] { act(row); };
    if (row.cause == kNone) {
        part.key = "smaller";
        part.role = QAccessible::Button;
        part.name = toQString(smallerCausesText(e));
        return part;
    }
    const Cause& cause = e.causes[row.cause];
    const QString letter = toQString(cause.letter);
    if (row.part != kNone) {
        const auto [holder, late] = byHolder(cause.contentionParts)[row.part];
        part.key = letter + " by " + QString::number(row.part);
        part.name =
            tr("%1: %2 late").arg(toQString(coreHolderText(*e.recording, holder)), toQString(durationText(late)));
    } else if (row.more) {
        part.key = letter + " more";
        part.role = QAccessible::Button;
        part.name = tr("%1 more spikes").arg(toQString(countText(cause.spikes.size() - kFewSpikes)));
    } else if (row.spike != kNone) {
        const Spike& spike = e.spikes[row.spike];
        const uint32_t frame = shownFrame(spike);
        part.key = letter + " frame " + QString::number(spike.first);
        part.name = tr("frame %1, %2, %3")
                        .arg(toQString(countText(frame)), toQString(durationText(e.frame(frame).duration())),
                             spikePlace(spike, frame));
        part.selected = selection_.frame() >= spike.first && selection_.frame() <= spike.last;
        part.actsOnArrival = true;
    } else {
        part.key = letter;
        part.name = tr("%1: %2, %3, %4 late, %5")
                        .arg(letter, toQString(causeTitle(e, cause)), toQString(causeKindPhrase(e, cause)),
                             toQString(durationText(cause.late)), spikesOf(cause));
        part.more = tipOf(row);
        part.selected = row.cause == openCause_;
        part.actsOnArrival = true;
    }
    return part;
}

void CausesPanel::act(const Row& row) {
    if (row.more) {
        (row.cause == kNone ? smaller_ : all_) = true;
        layOut();
    } else if (row.spike == kNone) {  // who had the cores is seen in the frame with most of it
        selection_.chooseCause(known(row.cause));
    } else {
        const Explanation& e = *shown_;
        selection_.chooseFrame(e.worstFrameOf(e.spikes[row.spike]));
    }
}

void CausesPanel::take() {
    shown_ = document_.explanation();
    placesFor_ = {};
    layOut();
}

/// A cause that is shown, as it is numbered in what is known by now of a growing recording; and the other way round.
uint32_t CausesPanel::known(uint32_t cause) const {
    const auto& now = document_.explanation();
    return now == shown_ || cause == kNone ? cause : now ? now->causeLike(shown_->causes[cause].key) : kNone;
}

uint32_t CausesPanel::selectedCause() const {
    const auto& now = document_.explanation();
    const uint32_t cause = selection_.cause();
    if (now == shown_ || !now || !shown_ || cause >= now->causes.size()) return cause;
    return shown_->causeLike(now->causes[cause].key);
}

void CausesPanel::layOut() {
    rows_.clear();
    if (openCause_ != selectedCause()) all_ = false;
    openCause_ = selectedCause();
    int y = kTop;
    const int width = viewport()->width() - 2 * kMargin;
    if (const auto& e = shown_) {
        // One that is selected is always there, however small.
        const bool all = smaller_ || (openCause_ != kNone && openCause_ >= e->listed);
        const size_t shown = all ? e->causes.size() : e->listed;
        for (uint32_t c = 0; c < shown; ++c) {
            rows_.push_back({QRect(kMargin, y, width, kCauseHeight), c});
            y += kCauseHeight;
            if (c == openCause_) y = layOutOpened(c, y, width) + 8;
        }
        if (shown < e->causes.size()) {
            rows_.push_back({QRect(kMargin, y + 4, width, kSpikeHeight), kNone, kNone, true});
            y += 4 + kSpikeHeight;
        }
    }
    verticalScrollBar()->setRange(0, std::max(0, y + 8 - viewport()->height()));
    verticalScrollBar()->setPageStep(viewport()->height());
    verticalScrollBar()->setSingleStep(kSpikeHeight);
    parts_->changed();
    viewport()->update();
}

/// What an opened cause shows below it: who had the cores, its spikes. Returns where that ends.
int CausesPanel::layOutOpened(uint32_t c, int y, int width) {
    const auto& e = shown_;
    const auto put = [&](uint32_t spike, bool more, uint32_t part) {
        rows_.push_back({QRect(kMargin + 30, y, width - 36, kSpikeHeight), c, spike, more, part});
        y += kSpikeHeight;
    };
    const size_t holders = std::min(kFewHolders, byHolder(e->causes[c].contentionParts).size());
    for (uint32_t part = 0; part < holders; ++part) put(kNone, false, part);
    std::vector<std::pair<int64_t, uint32_t>> spikes;  // by their worst frame, the worst first, then by time
    for (const uint32_t spike : e->causes[c].spikes)
        spikes.emplace_back(-e->frames[e->worstFrameOf(e->spikes[spike])].overrun, spike);
    const size_t shown = all_ ? spikes.size() : std::min(kFewSpikes, spikes.size());
    std::partial_sort(spikes.begin(), spikes.begin() + static_cast<std::ptrdiff_t>(shown), spikes.end());
    for (size_t i = 0; i < shown; ++i) put(spikes[i].second, false, kNone);
    if (shown < spikes.size()) put(kNone, true, kNone);
    return y;
}

void CausesPanel::resizeEvent(QResizeEvent*) { layOut(); }
void CausesPanel::scrollContentsBy(int, int) { viewport()->update(); }

void CausesPanel::paintCause(QPainter& painter, const Row& row) const {
    const Theme& t = theme();
    const Explanation& e = *shown_;
    const Cause& cause = e.causes[row.cause];
    const bool open = row.cause == openCause_;
    const QRect& box = row.box;
    const QRect badge(box.left() + 8, box.top() + 5, 20, 20);
    const auto& repairs = document_.trials().repairs();
    const auto& prediction = document_.trials().prediction();
    const uint32_t now = known(row.cause);
    const bool tried = std::any_of(repairs.begin(), repairs.end(), [&](const Repair& r) { return r.cause == now; });
    painter.setPen(tried ? QPen(t.plum, 1.2, Qt::DotLine) : QPen(Qt::NoPen));
    painter.setBrush(tried ? t.paper : open ? t.plum : t.plumLight);
    painter.drawEllipse(badge);
    painter.setFont(boldFont());
    painter.setPen(tried ? t.plum : open ? t.onPlum : t.dark ? t.text : t.plum);
    painter.drawText(badge, Qt::AlignCenter, toQString(cause.letter));

    const QString late = tried ? tr("simulated")
                         : prediction && now < prediction->lateBy.size()
                             ? toQString(durationText(prediction->lateBy[now]))
                             : toQString(durationText(cause.late));
    const int lateWidth = painter.fontMetrics().horizontalAdvance(late);
    const int left = box.left() + 36, right = box.right() - 8;
    painter.setPen(t.text);
    painter.drawText(QRect(right - lateWidth, box.top() + 4, lateWidth, 18), Qt::AlignRight | Qt::AlignVCenter, late);
    const QRect title(left, box.top() + 4, right - lateWidth - 8 - left, 18);
    QString name = toQString(causeTitle(e, cause));
    if (cause.contention != Contention::None)  // what tells them apart must not be cut off
        name = cause.contention == Contention::OwnThreads       ? tr("CPU: own threads")
               : cause.contention == Contention::MachineStopped ? tr("Machine stood still")
                                                                : tr("CPU: others");
    QString phrase = toQString(causeKindPhrase(e, cause));
    const bool tooLong = painter.fontMetrics().horizontalAdvance(name) > title.width();
    const QString lane = toQString(e.recording->groups[cause.group].name);
    if (tooLong && cause.key.function != kNone) {
        name = toQString(e.symbols->nameOf(cause.key.function));
        phrase = cause.ofSamples
                     ? tr("on %1: %2 of %3 stacks")
                           .arg(lane, toQString(countText(cause.samples)), toQString(countText(cause.ofSamples)))
                     : tr("blocked on %1").arg(lane);
    } else if (tooLong && cause.key.outside && cause.kind == CauseKind::Unexplained) {
        name = lane;
        phrase = tr("longer outside any marker");
    } else if (tooLong && cause.path) {
        name = (cause.key.startUp ? tr("Starting up: ") : tr("… ▸ ")) + toQString(e.recording->nameOf(cause.path));
    }
    painter.drawText(title, Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(name, Qt::ElideRight, title.width()));

    painter.setFont(smallFont());
    painter.setPen(t.muted);
    const QString spikes = spikesOf(cause);
    const int spikesWidth = painter.fontMetrics().horizontalAdvance(spikes), places = right - spikesRoom(painter);
    painter.drawText(QRect(right - spikesWidth, box.top() + 38, spikesWidth, 14), Qt::AlignRight | Qt::AlignVCenter,
                     spikes);
    const QRect kind(left, box.top() + 22, right - left, 16);
    painter.drawText(kind, Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(phrase, Qt::ElideRight, kind.width()));

    const int y = box.top() + 47;  // where in the recording it lies
    painter.fillRect(left, y, places - left, 1, t.line);
    for (const int x : placesOf(row.cause, places - left))
        painter.fillRect(left + x, y - 6, 2, 7, open ? t.plum : t.plumMiddle);
}

/// In how many spikes a cause is the main one; where it is in none, in how many frames it has a share.
QString CausesPanel::spikesOf(const Cause& cause) {
    return toQString(cause.spikes.empty() ? plural(cause.frames.size(), "frame", "frames")
                                          : plural(cause.spikes.size(), "spike", "spikes"));
}

/// What spikesOf() wants at most of the width, and what lies beside it: the same for all, so that places compare.
int CausesPanel::spikesRoom(const QPainter& painter) const {
    const auto shorter = [](const Cause& a, const Cause& b) {
        const auto count = [](const Cause& cause) {
            return cause.spikes.empty() ? cause.frames.size() : cause.spikes.size();
        };
        return count(a) < count(b);
    };
    const auto longest = std::max_element(shown_->causes.begin(), shown_->causes.end(), shorter);
    return painter.fontMetrics().horizontalAdvance(spikesOf(*longest)) + kBesidePlaces;
}

/// Where in a strip of that width the frames of a cause lie; worked out once.
const std::vector<int>& CausesPanel::placesOf(uint32_t cause, int width) const {
    const auto& e = shown_;
    if (placesFor_ != std::pair(e.get(), width)) {
        placesFor_ = {e.get(), width};
        places_.assign(e->causes.size(), {});
    }
    std::vector<int>& places = places_[cause];
    if (!places.empty()) return places;
    const Recording& r = *e->recording;
    const auto length = static_cast<double>(std::max<int64_t>(1, r.end - r.begin));
    for (const uint32_t frame : e->causes[cause].frames) {
        const auto x = static_cast<int>(static_cast<double>(e->frame(frame).begin - r.begin) / length * width);
        if (places.empty() || x > places.back() + 1) places.push_back(x);
    }
    return places;
}

/// One program, or lane group, that had the cores: its part of the time late.
void CausesPanel::paintHolder(QPainter& painter, const Row& row) const {
    const Theme& t = theme();
    const Explanation& e = *shown_;
    const auto holders = byHolder(e.causes[row.cause].contentionParts);
    const auto [holder, late] = holders[row.part];
    const QRect box = row.box.adjusted(6, 0, -6, 0);
    QString name = toQString(coreHolderText(*e.recording, holder));
    if (row.part + 1 == kFewHolders && holders.size() > kFewHolders)
        name = tr("%1 and %2 more").arg(name, toQString(countText(holders.size() - kFewHolders)));
    int64_t time = late;
    if (row.part + 1 == kFewHolders)
        for (size_t i = kFewHolders; i < holders.size(); ++i) time += holders[i].second;
    const QString amount = toQString(durationText(time));
    painter.setFont(smallFont());
    const int wide = painter.fontMetrics().horizontalAdvance(amount);
    const double part = static_cast<double>(time) / static_cast<double>(std::max<int64_t>(1, e.causes[row.cause].late));
    painter.fillRect(QRectF(box.left(), box.bottom() - 2, part * box.width(), 2), t.plumMiddle);
    painter.setPen(t.text);
    painter.drawText(box, Qt::AlignRight | Qt::AlignVCenter, amount);
    painter.drawText(box, Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(name, Qt::ElideRight, box.width() - wide - 8));
}

/// The frame of a spike that its row tells of: the selected one, or the worst.
uint32_t CausesPanel::shownFrame(const Spike& spike) const {
    const bool chosen =
        selection_.frame() != kNone && selection_.frame() >= spike.first && selection_.frame() <= spike.last;
    return chosen ? selection_.frame() : shown_->worstFrameOf(spike);
}

QString CausesPanel::spikePlace(const Spike& spike, uint32_t shown) const {
    const uint32_t length = spike.last - spike.first + 1;
    if (spike.origin < spike.first && shown == spike.first)
        return tr("from %1").arg(toQString(countText(spike.origin)));
    if (length == 1) return tr("alone");
    if (shown == spike.first) return tr("first of %1").arg(length);
    return tr("%1 of %2").arg(shown - spike.first + 1).arg(length);
}

void CausesPanel::paintSpike(QPainter& painter, const Row& row) const {
    const Theme& t = theme();
    const Explanation& e = *shown_;
    painter.setFont(smallFont());
    if (row.cause == kNone) {
        painter.setPen(t.path);
        painter.drawText(row.box.adjusted(8, 0, -6, 0), Qt::AlignLeft | Qt::AlignVCenter,
                         toQString(smallerCausesText(e)));
        return;
    }
    if (row.more) {
        painter.setPen(t.path);
        painter.drawText(row.box.adjusted(6, 0, -6, 0), Qt::AlignLeft | Qt::AlignVCenter,
                         tr("%1 more…").arg(toQString(countText(e.causes[row.cause].spikes.size() - kFewSpikes))));
        return;
    }
    const Spike& spike = e.spikes[row.spike];
    const bool chosen =
        selection_.frame() != kNone && selection_.frame() >= spike.first && selection_.frame() <= spike.last;
    if (chosen) {
        painter.setPen(Qt::NoPen);
        painter.setBrush(t.plumMiddle);
        painter.setOpacity(t.dark ? 0.5 : 0.38);
        painter.drawRoundedRect(row.box, 3, 3);
        painter.setOpacity(1);
    }
    const uint32_t shown = shownFrame(spike);
    const QString place = spikePlace(spike, shown);
    const QRect box = row.box.adjusted(6, 0, -6, 0);
    painter.setPen(t.text);
    if (chosen) painter.setFont(smallBoldFont());
    // Large frame numbers take the room of the word before them.
    const QString duration = toQString(durationText(e.frame(shown).duration())), number = toQString(countText(shown));
    const int wide = painter.fontMetrics().horizontalAdvance(duration + number + place) + 24;
    const bool narrow = wide > box.width();  // then its place in the spike is told by the part's name alone
    const int durationRight = narrow ? box.right() : box.right() - box.width() / 3 - 6;
    const int room = durationRight - painter.fontMetrics().horizontalAdvance(duration) - 8 - box.left();
    const QString largest = tr("frame %1").arg(toQString(countText(e.frames.size() - 1)));  // the same in every row
    painter.drawText(
        box, Qt::AlignLeft | Qt::AlignVCenter,
        QFontMetrics(smallBoldFont()).horizontalAdvance(largest) <= room ? tr("frame %1").arg(number) : number);
    painter.drawText(QRect(box.left(), box.top(), durationRight - box.left(), box.height()),
                     Qt::AlignRight | Qt::AlignVCenter, duration);
    painter.setFont(smallFont());
    painter.setPen(chosen ? t.text : t.muted);
    if (!narrow) painter.drawText(box, Qt::AlignRight | Qt::AlignVCenter, place);
}

void CausesPanel::paintEvent(QPaintEvent*) {
    QPainter painter(viewport());
    const Theme& t = theme();
    painter.fillRect(viewport()->rect(), t.paper);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(0, -verticalScrollBar()->value());
    painter.setFont(titleFont());
    painter.setPen(t.text);
    painter.drawText(QRect(14, 6, 140, 20), Qt::AlignLeft | Qt::AlignVCenter, tr("Causes"));
    const auto& e = shown_;
    if (!e || e->causes.empty()) {
        painter.setFont(textFont());
        painter.setPen(t.muted);
        QString words = tr("What made frames late will be named here.");
        if (e && !e->frames.empty())
            words = tr("No frame was late. Set a tighter budget above to see what would be in the way.");
        else if (document_.recording())
            words = document_.whyUnexplained();
        painter.drawText(QRect(14, kTop + 6, viewport()->width() - 28, 120), Qt::TextWordWrap, words);
        return;
    }
    painter.setFont(smallFont());
    painter.setPen(t.muted);
    painter.drawText(QRect(100, 7, viewport()->width() - 114, 20), Qt::AlignRight | Qt::AlignVCenter,
                     tr("by time late"));
    QRect open;
    for (const Row& row : rows_)
        if (row.cause == openCause_ && openCause_ != kNone)
            open = open.isNull() ? row.box.adjusted(0, -1, 0, 0) : open.united(QRect(row.box.adjusted(-30, 0, 6, 4)));
    if (!open.isNull()) {
        painter.setPen(QPen(t.plum, 1));
        QColor ground = t.plumLight;
        ground.setAlphaF(t.dark ? 0.35f : 0.45f);
        painter.setBrush(ground);
        painter.drawRoundedRect(QRectF(open).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4);
    }
    const QRect inSight = viewport()->rect().translated(0, verticalScrollBar()->value());
    for (const Row& row : rows_) {
        if (!row.box.intersects(inSight)) continue;
        if (row.part != kNone)
            paintHolder(painter, row);
        else if (row.spike == kNone && !row.more)
            paintCause(painter, row);
        else
            paintSpike(painter, row);
    }
    parts_->paintFocus(painter);
}

/// What may be cut where it is painted, in full.
QString CausesPanel::tipOf(const Row& row) const {
    const Explanation& e = *shown_;
    if (row.cause == kNone || row.spike != kNone || row.more) return {};
    const Cause& cause = e.causes[row.cause];
    const std::string title = cause.path ? e.recording->pathText(cause.path, kNone) : causeTitle(e, cause);
    QStringList lines{toQString(title), toQString(causeKindPhrase(e, cause))};
    for (const CauseArgument& argument : cause.arguments)
        lines << tr("with %1").arg(toQString(argumentWords(argument)));
    const auto part = [&](const std::string& name, int64_t late) {
        lines << tr("%1: %2 late").arg(toQString(name), toQString(durationText(late)));
    };
    for (const auto& [holder, late] : byHolder(cause.contentionParts)) part(coreHolderText(*e.recording, holder), late);
    constexpr qsizetype kMostLines = 16;
    if (lines.size() > kMostLines) {
        const qsizetype more = lines.size() - kMostLines;
        lines = lines.first(kMostLines) << tr("and %1 more").arg(more);
    }
    return lines.join('\n');
}

bool CausesPanel::viewportEvent(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QAbstractScrollArea::viewportEvent(event);
    const auto* help = static_cast<QHelpEvent*>(event);
    const QPoint at = help->pos() + QPoint(0, verticalScrollBar()->value());
    const auto row = std::find_if(rows_.begin(), rows_.end(), [&](const Row& r) { return r.box.contains(at); });
    const QString tip = row == rows_.end() || !shown_ ? QString() : tipOf(*row);
    tip.isEmpty() ? QToolTip::hideText()
                  : QToolTip::showText(help->globalPos(), plainTip(tip), viewport(),
                                       row->box.translated(0, -verticalScrollBar()->value()));
    return true;
}

void CausesPanel::mousePressEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton) parts_->click(event->pos());
}

void CausesPanel::keyPressEvent(QKeyEvent* event) {
    if (!parts_->press(*event)) QAbstractScrollArea::keyPressEvent(event);
}

void CausesPanel::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    const auto& e = shown_;
    const QPoint at = event->pos() + QPoint(0, verticalScrollBar()->value());
    const auto row = std::find_if(rows_.begin(), rows_.end(), [&](const Row& r) { return r.box.contains(at); });
    if (e && row != rows_.end() && row->cause != kNone)
        for (const TrialChoice& choice : trialChoices(*e, row->cause))
            menu.addAction(tr("%1: %2").arg(toQString(e->causes[row->cause].letter), choice.name), this,
                           [this, choice] {
                               const uint32_t now = known(choice.repair.cause);
                               if (now != kNone) document_.trials().toggle({now, choice.repair.gone});
                           });
    if (!menu.isEmpty()) menu.addSeparator();
    parts_->fillMenu(menu, event->pos());
    menu.exec(event->globalPos());
}

}  // namespace fugato
