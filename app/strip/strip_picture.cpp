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

namespace fugato {

namespace {
constexpr int kHeadroomPart = 3;                       // of the bars' height, one third hangs below the deadline
constexpr int64_t kFarBeyond = 4;                      // times the next lower bar
constexpr size_t kFewestBeyond = 3, kBeyondPart = 20;  // so many bars, or one in so many, may go beyond the scale

/// The tallest bar, but for those of starting up, and few that stand far above all others.
int64_t scaleFor(const Explanation& e, const std::vector<StripPicture::Column>& columns) {
    std::vector<int64_t> bars, startingUp;
    for (const StripPicture::Column& column : columns)
        if (column.overrun && !column.goesOn)
            (e.frames[column.worst].startUp ? startingUp : bars).push_back(column.overrun);
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

}  // namespace

void StripPicture::layOut(std::shared_ptr<const Explanation> explanation, int width,
                          std::shared_ptr<const Prediction> prediction) {
    explanation_ = std::move(explanation);
    prediction_ = std::move(prediction);
    columns_.assign(static_cast<size_t>(std::max(width, 1)), {});
    tallest_ = deepest_ = scale_ = 0;
    letters_.clear();
    if (!explanation_) return;
    const Explanation& e = *explanation_;
    for (uint32_t i = 0; i < e.frames.size(); ++i) {
        const auto x = std::clamp<int64_t>(static_cast<int64_t>(xAt(e.frame(i).begin)), 0, width - 1);
        Column& column = columns_[static_cast<size_t>(x)];
        const FrameVerdict& frame = e.frames[i];
        const int64_t headroom = std::max<int64_t>(0, frame.deadline - frame.work);
        if (column.first == kNone) {
            column.first = column.worst = i;
            column.headroom = headroom;
        }
        column.last = i;
        if (frame.overrun > column.overrun || (column.overrun == 0 && headroom < column.headroom)) column.worst = i;
        column.overrun = std::max(column.overrun, frame.overrun);
        if (prediction_) column.predicted = std::max(column.predicted, prediction_->overrun[i]);
        column.headroom = std::min(column.headroom, headroom);
        column.near |= frame.state == FrameState::Near;
        tallest_ = std::max(tallest_, frame.overrun);
        deepest_ = std::max(deepest_, headroom);
    }
    // Few frames on many columns: each fills the way to the next one, but for real gaps.
    for (size_t x = 1; x < columns_.size(); ++x) {
        if (columns_[x].first != kNone || columns_[x - 1].last == kNone) continue;
        const uint32_t frame = columns_[x - 1].last;
        const int64_t usualGap = 2 * std::max(e.frame(frame).duration(), e.frames[frame].deadline);
        if (timeAt(static_cast<double>(x)) - e.frame(frame).begin > usualGap) continue;
        columns_[x] = columns_[x - 1];
        columns_[x].goesOn = true;
    }
    scale_ = scaleFor(e, columns_);
    const auto& points = e.recording->points;
    for (uint32_t i = 0; i < points.size(); ++i) {
        const auto x = std::clamp<int64_t>(static_cast<int64_t>(xAt(points[i].time)), 0, width - 1);
        uint32_t& shown = columns_[static_cast<size_t>(x)].point;
        if (shown == kNone || points[i].severity > points[shown].severity) shown = i;
    }
    // Letters over the costliest spikes first, where there is room.
    std::vector<uint32_t> order(e.spikes.size());
    for (uint32_t i = 0; i < order.size(); ++i) order[i] = i;
    std::stable_sort(order.begin(), order.end(),
                     [&](uint32_t a, uint32_t b) { return e.spikes[a].late > e.spikes[b].late; });
    std::vector<bool> taken(columns_.size());
    for (const uint32_t index : order) {
        const Spike& spike = e.spikes[index];
        const int x = static_cast<int>(xAt((e.frame(spike.first).begin + e.frame(spike.last).end) / 2));
        const int from = std::max(0, x - 8), to = std::min(static_cast<int>(taken.size()), x + 9);
        if (from >= to || std::any_of(taken.begin() + from, taken.begin() + to, [](bool t) { return t; })) continue;
        std::fill(taken.begin() + from, taken.begin() + to, true);
        letters_.emplace_back(x, spike.cause);
    }
}

double StripPicture::xAt(int64_t time) const {
    if (!explanation_) return 0;
    const Recording& r = *explanation_->recording;
    const auto length = static_cast<double>(std::max<int64_t>(1, r.end - r.begin));
    return static_cast<double>(time - r.begin) / length * static_cast<double>(columns_.size());
}

int64_t StripPicture::timeAt(double x) const {
    if (!explanation_) return 0;
    const Recording& r = *explanation_->recording;
    return r.begin +
           static_cast<int64_t>(x / static_cast<double>(columns_.size()) * static_cast<double>(r.end - r.begin));
}

int StripPicture::deadlineY(const QRect& area) const {
    const int bars = area.height() - kStageHeight - kBoundHeight - kLetterHeight;
    return area.top() + kLetterHeight + bars - bars / kHeadroomPart;
}

void StripPicture::paint(QPainter& painter, const QRect& area, uint32_t cause) const {
    const Theme& t = theme();
    painter.fillRect(area, t.paper);
    if (!explanation_) return;
    const Explanation& e = *explanation_;
    const int zero = deadlineY(area), top = area.top() + kLetterHeight,
              bottom = area.bottom() - kStageHeight - kBoundHeight;
    const int height = zero - top;
    const auto barFor = [&](int64_t overrun) {
        if (!overrun) return 0;
        const double part = std::min(1.0, static_cast<double>(overrun) / static_cast<double>(scale_));
        return std::max(2, static_cast<int>(std::lround(part * height)));
    };
    const double down = deepest_ ? static_cast<double>(bottom - zero - 2) / static_cast<double>(deepest_) : 0;
    for (size_t x = 0; x < columns_.size(); ++x) {
        const Column& column = columns_[x];
        if (column.first == kNone) continue;
        const int at = area.left() + static_cast<int>(x);
        const int below = std::max(1, static_cast<int>(std::lround(static_cast<double>(column.headroom) * down)));
        painter.fillRect(at, zero + 1, 1, below, t.headroom);
        if (column.overrun) {
            const int above = barFor(column.overrun);
            const auto& shares = e.frames[column.worst].shares;
            const bool other = cause != kNone && std::none_of(shares.begin(), shares.end(),
                                                              [&](const CauseShare& s) { return s.cause == cause; });
            const QColor highlight = other ? t.plumMiddle : t.plum;
            if (prediction_) {  // what would be gone stands pale behind what would stay
                const int stays = barFor(column.predicted);
                QColor pale = t.plumMiddle;
                pale.setAlpha(120);
                painter.fillRect(at, zero - above, 1, above, pale);
                painter.fillRect(at, zero - stays, 1, stays, t.plum);
            } else {
                painter.fillRect(at, zero - above, 1, above, highlight);
            }
            if (column.overrun > scale_) painter.fillRect(at, zero - above * 3 / 4, 1, 3, t.paper);  // a broken bar
        } else if (column.near && !column.goesOn) {  // told by shape: a small wedge under the line
            painter.fillRect(at - 1, zero + 1, 3, 2, t.near);
            painter.fillRect(at, zero + 3, 1, 2, t.near);
        }
    }
    QColor pale = t.paper;  // what is not explained stands back
    pale.setAlpha(180);
    for (size_t x = 0; x < columns_.size(); ++x)
        if (columns_[x].first != kNone && e.frames[columns_[x].first].outside && e.frames[columns_[x].last].outside)
            painter.fillRect(area.left() + static_cast<int>(x), top, 1, bottom - top, pale);
    painter.fillRect(area.left(), zero, area.width(), 1, t.text);

    painter.setFont(boldFont());
    for (const auto& [x, which] : letters_) {
        painter.setPen(which == cause ? t.plum : t.letter());
        painter.drawText(QRect(area.left() + x - 14, area.top() + 1, 28, kLetterHeight - 2), Qt::AlignCenter,
                         toQString(e.causes[which].letter));
    }

    painter.setFont(smallFont());
    const auto label = [&](const QRect& where, Qt::Alignment alignment, const QString& text) {
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
    label(QRect(area.left() + 4, bottom - 15, 120, 14), Qt::AlignLeft | Qt::AlignBottom, QObject::tr("headroom"));
    label(QRect(area.right() - 124, zero - 15, 120, 14), Qt::AlignRight | Qt::AlignBottom, QObject::tr("deadline"));

    paintBound(painter, boundBand(area));
    paintStages(painter, QRect(area.left(), area.bottom() - kStageHeight + 3, area.width(), kStageHeight - 3));
}

/// Told apart by how dark and how dense they are: pacing is palest, then waiting, work, and CPU contention.
void StripPicture::paintBound(QPainter& painter, const QRect& band) const {
    for (size_t x = 0; x < columns_.size(); ++x)
        if (columns_[x].worst != kNone)
            paintBoundBy(painter, QRect(band.left() + static_cast<int>(x), band.top(), 1, band.height()),
                         explanation_->frames[columns_[x].worst].bound);
}

void StripPicture::paintStages(QPainter& painter, const QRect& band) const {
    const Theme& t = theme();
    const Recording& r = *explanation_->recording;
    std::vector<std::pair<QRect, QString>> named;
    if (const State* state = r.stages()) {
        for (const StateSpan& span : state->spans) {
            const int from = band.left() + static_cast<int>(xAt(span.begin)),
                      to = band.left() + static_cast<int>(xAt(span.end));
            if (to - from < 2) continue;
            named.emplace_back(QRect(from, band.top(), to - from - 1, band.height()), toQString(r.text(span.value)));
            painter.fillRect(named.back().first, t.stage);
        }
    }
    // A point is a small stroke, longer and in highlight for warnings and errors.
    for (size_t x = 0; x < columns_.size(); ++x) {
        if (columns_[x].point == kNone) continue;
        const bool grave = r.points[columns_[x].point].severity >= Severity::Warning;
        painter.fillRect(QRect(band.left() + static_cast<int>(x), band.bottom() - (grave ? 6 : 3), 2, grave ? 7 : 4),
                         grave ? t.plum : t.near);
    }
    painter.setPen(t.muted);
    for (const auto& [box, name] : named) {
        const int width = painter.fontMetrics().horizontalAdvance(name);
        if (width >= box.width() - 10) continue;
        painter.fillRect(QRect(box.left() + 3, box.top(), width + 6, box.height()), t.stage);
        painter.drawText(box.adjusted(6, 0, -4, 0), Qt::AlignLeft | Qt::AlignVCenter, name);
    }
}

}  // namespace fugato
