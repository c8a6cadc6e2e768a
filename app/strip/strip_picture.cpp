// SPDX-License-Identifier: GPL-3.0-or-later
#include "strip_picture.h"

#include <QObject>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/theme/bound_band.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"
#include "core/store/first_from.h"

namespace fugato {

namespace {
constexpr int kHeadroomPart = 3;                       // of the bars' height, one third hangs below the deadline
constexpr int64_t kFarBeyond = 4;                      // times the next lower bar
constexpr size_t kFewestBeyond = 3, kBeyondPart = 20;  // so many bars, or one in so many, may go beyond the scale
constexpr int kLetterWidth = 28;
constexpr int kLetterAside = 7;                 // at least, from its middle to the edge
constexpr int kLetterReach = 8;                 // on both sides of its middle no other may stand
constexpr int kBesideColumn = 2;                // what is painted of a column reaches so far beyond it
constexpr double kRoom = 1.125;                 // times what there is, while more is to come, …
constexpr int64_t kLeastRoom = 10'000'000'000;  // … and at least so long

/// The tallest bar, but for those of starting up, and few that stand far above all others.
int64_t scaleFor(const std::vector<StripPicture::Column>& columns) {
    std::vector<int64_t> bars, startingUp;
    for (const StripPicture::Column& column : columns)
        if (column.overrun && !column.goesOn) (column.startUp ? startingUp : bars).push_back(column.overrun);
    if (bars.empty()) bars = std::move(startingUp);
    if (bars.empty()) return 0;
    std::sort(bars.begin(), bars.end());
    const size_t most = std::max(kFewestBeyond, bars.size() / kBeyondPart);
    for (size_t beyond = 1; beyond <= most && beyond < bars.size(); ++beyond) {
        const size_t first = bars.size() - beyond;  // that would go beyond
        if (bars[first] > kFarBeyond * bars[first - 1]) return bars[first - 1];
    }
    return bars.back();
}

bool hasRoomForLetter(const std::vector<bool>& taken) {
    int free = 0;  // in a row
    for (size_t i = 0; i < taken.size(); ++i) {
        free = taken[i] ? 0 : free + 1;
        const bool atEdge = free == static_cast<int>(i) + 1 || i + 1 == taken.size();
        if (free > 2 * kLetterReach || (atEdge && free >= kLetterReach + kLetterAside)) return true;
    }
    return false;
}

}  // namespace

void StripPicture::layOut(std::shared_ptr<const Explanation> explanation, int width,
                          std::shared_ptr<const Prediction> prediction, uint32_t cause,
                          const std::vector<NewFrame>& newFrames) {
    explanation_ = std::move(explanation);
    prediction_ = std::move(prediction);
    cause_ = cause;
    deadlineWidth_ = QFontMetrics(smallFont()).horizontalAdvance(QObject::tr("deadline"));
    columns_.assign(static_cast<size_t>(std::max(width, 1)), {});
    if (!explanation_)
        until_ = 0;
    else
        makeRoom(explanation_->recording->end);
    layOutExplained();
    setNewFrames(newFrames);
}

/// So that `end` has a place: with some room to spare while there is more to come.
void StripPicture::makeRoom(int64_t end) {
    const Recording& r = *explanation_->recording;
    if (!r.growing)
        until_ = r.end;
    else if (end > until_)
        until_ = r.begin + std::max(kLeastRoom, static_cast<int64_t>(kRoom * static_cast<double>(end - r.begin)));
}

size_t StripPicture::columnAt(int64_t time) const {
    return static_cast<size_t>(
        std::clamp<int64_t>(static_cast<int64_t>(xAt(time)), 0, static_cast<int64_t>(columns_.size()) - 1));
}

/// A cause is selected, and the frame has none of it.
bool StripPicture::isOfOther(const FrameVerdict& frame) const {
    const auto shares = explanation_->sharesOf(frame);
    return cause_ != kNone &&
           std::none_of(shares.begin(), shares.end(), [&](const CauseShare& s) { return s.cause == cause_; });
}

void StripPicture::add(Column& column, uint32_t first, uint32_t last, const FrameGroup& frames,
                       const FrameVerdict& worst, const Frame& lastFrame, int64_t lastDeadline) const {
    if (column.first == kNone) {
        column.first = first;
        static_cast<FrameGroup&>(column) = frames;
    } else {
        static_cast<FrameGroup&>(column).add(frames);
    }
    column.last = last;
    column.goesOnTo = lastFrame.begin + 2 * std::max(lastFrame.duration(), lastDeadline);
    if (column.worst == frames.worst) {
        column.bound = worst.bound;
        column.explained = column.worst < explanation_->frames.size();
        column.startUp = worst.startUp;
        column.ofOther = isOfOther(worst);
    }
    if (!prediction_) return;
    const auto& predicted = prediction_->overrun;
    for (size_t i = first; i <= last && i < predicted.size(); ++i)
        column.predicted = std::max(column.predicted, predicted[i]);
}

void StripPicture::layOutExplained() {
    explained_.assign(columns_.size(), {});
    stages_.clear();
    letters_.clear();
    deepestExplained_ = 0;
    if (!explanation_) return;
    const Explanation& e = *explanation_;
    const Recording& r = *e.recording;
    const auto count = static_cast<uint32_t>(e.frames.size());
    for (uint32_t from = 0, to; from < count; from = to) {
        const size_t x = columnAt(e.frame(from).begin);
        to =
            static_cast<uint32_t>(firstFrom(from + 1, count, [&](size_t i) { return columnAt(e.frame(i).begin) > x; }));
        const FrameGroup frames = e.groupOf(from, to);
        add(explained_[x], from, to - 1, frames, e.frames[frames.worst], e.frame(to - 1), e.frames[to - 1].deadline);
        deepestExplained_ = std::max(deepestExplained_, frames.mostHeadroom);
    }
    layOutPoints();
    if (const State* state = r.stages())
        for (const StateSpan& span : state->spans) {
            const int from = static_cast<int>(xAt(span.begin)), to = static_cast<int>(xAt(span.end));
            if (to - from >= 2) stages_.push_back({from, to - 1, toQString(r.text(span.value))});
        }
    layOutLetters();
}

/// The gravest point of each column, of those the first.
void StripPicture::layOutPoints() {
    const Recording& r = *explanation_->recording;
    const auto& points = r.points;
    for (size_t from = 0, to; from < points.size(); from = to) {
        const size_t x = columnAt(points[from].time);
        to = firstFrom(from + 1, points.size(), [&](size_t i) { return columnAt(points[i].time) > x; });
        explained_[x].point = static_cast<uint32_t>(r.gravestPoint(from, to));
        explained_[x].gravePoint = points[explained_[x].point].severity >= Severity::Warning;
    }
}

/// Letters over the costliest spikes first, where there is room.
void StripPicture::layOutLetters() {
    const Explanation& e = *explanation_;
    std::vector<uint32_t> order(e.spikes.size());
    for (uint32_t i = 0; i < order.size(); ++i) order[i] = i;
    const auto costsLess = [&](uint32_t a, uint32_t b) {
        return std::pair(e.spikes[a].late, b) < std::pair(e.spikes[b].late, a);
    };
    std::make_heap(order.begin(), order.end(), costsLess);
    std::vector<bool> taken(columns_.size());
    bool room = true;
    for (; room && !order.empty(); order.pop_back()) {
        std::pop_heap(order.begin(), order.end(), costsLess);
        const Spike& spike = e.spikes[order.back()];
        const int middle = static_cast<int>(xAt((e.frame(spike.first).begin + e.frame(spike.last).end) / 2));
        const int last = std::max(kLetterAside, static_cast<int>(taken.size()) - kLetterAside);
        const int x = std::clamp(middle, kLetterAside, last);  // all of it can be read
        const int from = std::max(0, x - kLetterReach),
                  to = std::min(static_cast<int>(taken.size()), x + kLetterReach + 1);
        if (from >= to || std::any_of(taken.begin() + from, taken.begin() + to, [](bool t) { return t; })) continue;
        std::fill(taken.begin() + from, taken.begin() + to, true);
        letters_.push_back({x, e.causes[spike.cause].letter, spike.cause, spike.cause == cause_});
        room = hasRoomForLetter(taken);
    }
}

void StripPicture::setCause(uint32_t cause, const std::vector<NewFrame>& newFrames) {
    cause_ = cause;
    for (Column& column : explained_)
        if (column.worst != kNone) column.ofOther = isOfOther(explanation_->frames[column.worst]);
    for (Letter& letter : letters_) letter.selected = letter.cause == cause_;
    setNewFrames(newFrames);
}

void StripPicture::setNewFrames(const std::vector<NewFrame>& frames) {
    if (explanation_ && !frames.empty() && frames.back().frame.end > until_) {
        makeRoom(frames.back().frame.end);
        layOutExplained();
    }
    columns_ = explained_;
    tallest_ = scale_ = 0;
    deepest_ = deepestExplained_;
    recordedTo_ = 0;
    if (!explanation_) return;
    auto index = static_cast<uint32_t>(explanation_->frames.size());
    for (const NewFrame& it : frames) {
        FrameVerdict verdict = explanation_->judged(it.frame, it.pacing, 0);
        if (explanation_->timer.tick && !verdict.overrun) verdict.state = FrameState::InBudget;  // its sleep is unknown
        const FrameGroup frame = groupOfOne(index, verdict);
        add(columns_[columnAt(it.frame.begin)], index, index, frame, verdict, it.frame, verdict.deadline);
        deepest_ = std::max(deepest_, frame.mostHeadroom);
        ++index;
    }
    // Few frames on many columns: each fills the way to the next one, but for real gaps.
    for (size_t x = 0; x < columns_.size(); ++x) {
        Column& column = columns_[x];
        if (x > 0 && column.first == kNone && columns_[x - 1].last != kNone &&
            timeAt(static_cast<double>(x)) <= columns_[x - 1].goesOnTo) {
            const uint32_t point = column.point;
            const bool grave = column.gravePoint;
            column = columns_[x - 1];
            column.point = point;
            column.gravePoint = grave;
            column.goesOn = true;
        }
        tallest_ = std::max(tallest_, column.overrun);
        if (column.first != kNone) recordedTo_ = static_cast<int>(x) + 1;
    }
    if (!explanation_->recording->growing) recordedTo_ = all().to;
    scale_ = scaleFor(columns_);
}

StripPicture::Range StripPicture::changedSince(const StripPicture& before) const {
    const int width = static_cast<int>(columns_.size());
    if (columns_.size() != before.columns_.size() || !explanation_ || !before.explanation_ || until_ != before.until_ ||
        scale_ != before.scale_ || tallest_ != before.tallest_ || deepest_ != before.deepest_ ||
        !prediction_ != !before.prediction_)
        return all();
    Range changed{width, 0};
    const auto note = [&](int from, int to) {
        changed.from = std::min(changed.from, std::max(0, from));
        changed.to = std::max(changed.to, std::min(width, to));
    };
    const auto [first, was] = std::mismatch(columns_.begin(), columns_.end(), before.columns_.begin());
    if (first != columns_.end()) {
        size_t last = columns_.size();
        while (columns_[last - 1] == before.columns_[last - 1]) --last;
        note(static_cast<int>(first - columns_.begin()) - kBesideColumn, static_cast<int>(last) + kBesideColumn);
    }
    if (recordedTo_ != before.recordedTo_)
        note(std::min(recordedTo_, before.recordedTo_), std::max(recordedTo_, before.recordedTo_));
    // Of two lists what only one of them has.
    const auto noteOthers = [&](const auto& now, const auto& then, const auto& place) {
        for (const auto& one : now)
            if (std::find(then.begin(), then.end(), one) == then.end()) place(one);
        for (const auto& one : then)
            if (std::find(now.begin(), now.end(), one) == now.end()) place(one);
    };
    noteOthers(letters_, before.letters_,
               [&](const Letter& it) { note(it.x - kLetterWidth / 2, it.x + kLetterWidth / 2); });
    noteOthers(stages_, before.stages_, [&](const Stage& it) { note(it.from, it.to); });
    return changed;
}

double StripPicture::xAt(int64_t time) const {
    if (!explanation_) return 0;
    const int64_t begin = explanation_->recording->begin;
    const auto length = static_cast<double>(std::max<int64_t>(1, until_ - begin));
    return static_cast<double>(time - begin) / length * static_cast<double>(columns_.size());
}

int64_t StripPicture::timeAt(double x) const {
    if (!explanation_) return 0;
    const int64_t begin = explanation_->recording->begin;
    return begin + static_cast<int64_t>(x / static_cast<double>(columns_.size()) * static_cast<double>(until_ - begin));
}

int StripPicture::deadlineY(const QRect& area) const {
    const int bars = area.height() - kStageHeight - kBoundHeight - kLetterHeight;
    return area.top() + kLetterHeight + bars - bars / kHeadroomPart;
}

void StripPicture::paint(QPainter& painter, const QRect& whole, Range range) const {
    const Theme& t = theme();
    const QRect part(whole.left() + range.from, whole.top(), range.to - range.from, whole.height());
    painter.save();
    painter.setClipRect(part);
    painter.fillRect(part, t.paper);
    if (explanation_) {
        // What stands beside the range may reach into it.
        const Range beside{std::max(0, range.from - kBesideColumn),
                           std::min(static_cast<int>(columns_.size()), range.to + kBesideColumn)};
        paintBars(painter, whole, beside);
        paintLabels(painter, whole, range);
        paintBound(painter, boundBand(whole), beside);
        paintStages(painter, QRect(whole.left(), whole.bottom() - kStageHeight + 3, whole.width(), kStageHeight - 3),
                    beside);
    }
    painter.restore();
}

void StripPicture::paintBars(QPainter& painter, const QRect& area, Range range) const {
    const Theme& t = theme();
    const int zero = deadlineY(area), top = area.top() + kLetterHeight,
              bottom = area.bottom() - kStageHeight - kBoundHeight;
    const int height = zero - top;
    const auto barFor = [&](int64_t overrun) {
        if (!overrun) return 0;
        const double part = std::min(1.0, static_cast<double>(overrun) / static_cast<double>(scale_));
        return std::max(2, static_cast<int>(std::lround(part * height)));
    };
    QColor behind = t.plumMiddle;  // of what would be gone
    behind.setAlpha(120);
    QColor pale = t.paper;  // what is not explained stands back
    pale.setAlpha(180);
    const double down = deepest_ ? static_cast<double>(bottom - zero - 2) / static_cast<double>(deepest_) : 0;
    for (int x = range.from; x < range.to; ++x) {
        const Column& column = columns_[static_cast<size_t>(x)];
        if (column.first == kNone) continue;
        const int at = area.left() + x;
        const int below = std::max(1, static_cast<int>(std::lround(static_cast<double>(column.headroom) * down)));
        painter.fillRect(at, zero + 1, 1, below, t.headroom);
        if (column.overrun) {
            const int above = barFor(column.overrun);
            if (prediction_) {  // what would be gone stands pale behind what would stay
                const int stays = barFor(column.predicted);
                painter.fillRect(at, zero - above, 1, above, behind);
                painter.fillRect(at, zero - stays, 1, stays, t.plum);
            } else {
                painter.fillRect(at, zero - above, 1, above, column.ofOther ? t.plumMiddle : t.plum);
            }
            if (column.overrun > scale_) painter.fillRect(at, zero - above * 3 / 4, 1, 3, t.paper);  // a broken bar
        } else if (column.near && !column.goesOn) {  // told by shape: a small wedge under the line
            painter.fillRect(at - 1, zero + 1, 3, 2, t.near);
            painter.fillRect(at, zero + 3, 1, 2, t.near);
        }
        if (column.outside) painter.fillRect(at, top, 1, bottom - top, pale);
    }
    const int recorded = std::clamp(recordedTo_, range.from, range.to);  // pale, where there is nothing yet
    painter.fillRect(area.left() + range.from, zero, recorded - range.from, 1, t.text);
    painter.fillRect(area.left() + recorded, zero, range.to - recorded, 1, t.line);
}

void StripPicture::paintLabels(QPainter& painter, const QRect& area, Range range) const {
    const Theme& t = theme();
    const int zero = deadlineY(area), top = area.top() + kLetterHeight,
              bottom = area.bottom() - kStageHeight - kBoundHeight;
    const auto inRange = [&](const QRect& box) {
        return box.right() >= area.left() + range.from && box.left() < area.left() + range.to;
    };
    painter.setFont(boldFont());
    for (const Letter& it : letters_) {
        const QRect box(area.left() + it.x - kLetterWidth / 2, area.top() + 1, kLetterWidth, kLetterHeight - 2);
        if (!inRange(box)) continue;
        painter.setPen(it.selected ? t.plum : t.letter());
        painter.drawText(box, Qt::AlignCenter, toQString(it.letter));
    }
    painter.setFont(smallFont());
    // Words are only laid out where the range comes near them: that takes longer than painting a few bars.
    const auto label = [&](const QRect& where, Qt::Alignment alignment, const QString& text) {
        if (!inRange(where)) return;
        const QRect box = painter.fontMetrics().boundingRect(where, int(alignment), text).adjusted(-3, 0, 3, 0);
        painter.fillRect(box, t.paper);
        painter.setPen(t.muted);
        painter.drawText(where, int(alignment), text);
    };
    if (scale_) {
        QString words = "+" + toQString(durationText(scale_));
        if (tallest_ > scale_) words += QObject::tr(", broken bars up to +%1").arg(toQString(durationText(tallest_)));
        label(QRect(area.left() + 4, top, 320, 14), Qt::AlignLeft | Qt::AlignTop, words);
    }
    const int wide = deadlineWidth_ + 2;
    label(QRect(area.left() + 4, bottom - 15, 120, 14), Qt::AlignLeft | Qt::AlignBottom, QObject::tr("headroom"));
    label(QRect(area.right() - 4 - wide, zero - 15, wide, 14), Qt::AlignRight | Qt::AlignBottom,
          QObject::tr("deadline"));
}

/// Told apart by how dark and how dense they are: pacing is palest, then waiting, work, and CPU contention.
void StripPicture::paintBound(QPainter& painter, const QRect& band, Range range) const {
    for (int x = range.from; x < range.to; ++x)
        if (const Column& column = columns_[static_cast<size_t>(x)]; column.explained)
            paintBoundBy(painter, QRect(band.left() + x, band.top(), 1, band.height()), column.bound);
}

void StripPicture::paintStages(QPainter& painter, const QRect& band, Range range) const {
    const Theme& t = theme();
    for (const Stage& it : stages_)
        if (it.to > range.from && it.from < range.to)
            painter.fillRect(band.left() + it.from, band.top(), it.to - it.from, band.height(), t.stage);
    // A point is a small stroke, longer and in highlight for warnings and errors.
    for (int x = range.from; x < range.to; ++x) {
        const Column& column = columns_[static_cast<size_t>(x)];
        if (column.point == kNone) continue;
        const bool grave = column.gravePoint;
        painter.fillRect(QRect(band.left() + x, band.bottom() - (grave ? 6 : 3), 2, grave ? 7 : 4),
                         grave ? t.plum : t.near);
    }
    painter.setPen(t.muted);
    for (const Stage& it : stages_) {
        if (it.to <= range.from || it.from >= range.to) continue;
        const QRect box(band.left() + it.from, band.top(), it.to - it.from, band.height());
        const int width = painter.fontMetrics().horizontalAdvance(it.name);
        if (width >= box.width() - 10) continue;
        painter.fillRect(QRect(box.left() + 3, box.top(), width + 6, box.height()), t.stage);
        painter.drawText(box.adjusted(6, 0, -4, 0), Qt::AlignLeft | Qt::AlignVCenter, it.name);
    }
}

}  // namespace fugato
