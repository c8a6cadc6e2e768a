// SPDX-License-Identifier: GPL-3.0-or-later
#include "track_picture.h"

#include <QImage>
#include <QObject>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/ask/instant_table.h"
#include "core/explain/words/sentences.h"
#include "core/store/first_from.h"

namespace fugato {

namespace {

constexpr int kBandHeight = 20, kCurveHeight = 34, kOperationRow = 15, kMostOperationRows = 6, kPictureHeight = 66;
constexpr int kBeyondHeight = 10;  // of the band for operations that have no row

QString bytesText(double bytes) {
    return bytes >= 1e9   ? QObject::tr("%1 GB").arg(bytes / 1e9, 0, 'f', 2)
           : bytes >= 1e6 ? QObject::tr("%1 MB").arg(bytes / 1e6, 0, 'f', 2)
           : bytes >= 1e3 ? QObject::tr("%1 kB").arg(bytes / 1e3, 0, 'f', 1)
                          : QObject::tr("%1 bytes").arg(bytes, 0, 'f', 0);
}

QString numberText(double value) {
    const double size = std::abs(value);
    return !std::isfinite(value) || size >= 1e9 ? QString::number(value, 'g', 4)
           : size >= 100 || value == std::floor(value)
               ? (value < 0 ? "−" : "") + toQString(countText(static_cast<uint64_t>(std::llround(size))))
               : QString::number(value, 'g', 3);
}

/// The last position whose time is not after `time`, or times.size() where there is none.
size_t positionAt(const Column<int64_t>& times, int64_t time) {
    const auto after = std::upper_bound(times.begin(), times.end(), time);
    return after == times.begin() ? times.size() : static_cast<size_t>(after - times.begin()) - 1;
}

/// What a thread did in the spans [from, to); of very many, in the whole steps of their sums. (Lane::splitBetween() is
/// exact, but looks for both instants and at 128 spans: too much for each column of each thread.)
TimeSplit splitOf(const Lane& lane, size_t from, size_t to) {
    if (to - from > 2 * kScheduleStep) {
        const TimeSplit &before = lane.scheduleSums[(from + kScheduleStep - 1) / kScheduleStep],
                        &after = lane.scheduleSums[(to - 1) / kScheduleStep];
        return {after.ran - before.ran, after.ready - before.ready, after.blocked - before.blocked};
    }
    TimeSplit split;
    for (; from < to; ++from) split.add(lane.schedule[from].state, lane.schedule[from].end - lane.schedule[from].begin);
    return split;
}

/// Which part of the time of the spans [from, to) a core was busy; of very many, what eight parts of them tell.
double busyPartOf(const Column<CoreSpan>& spans, size_t from, size_t to) {
    constexpr size_t kParts = 8, kOfEach = 64;
    int64_t busy = 0, all = 0;
    const auto look = [&](size_t first, size_t past) {
        for (; first < past; ++first) {
            const int64_t ns = spans[first].end - spans[first].begin;
            all += ns;
            if (spans[first].thread != layout::kIdleThread) busy += ns;
        }
    };
    if (to - from <= kParts * kOfEach)
        look(from, to);
    else
        for (size_t part = 0; part < kParts; ++part) {
            const size_t first = from + (to - from) * part / kParts;
            look(first, first + kOfEach);
        }
    return all > 0 ? static_cast<double>(busy) / static_cast<double>(all) : 0;
}

/// The span that holds `time`, or null. Spans are in order of time and do not overlap.
template <class Span>
const Span* spanAt(const Column<Span>& spans, int64_t time) {
    const auto after =
        std::upper_bound(spans.begin(), spans.end(), time, [](int64_t t, const Span& span) { return t < span.begin; });
    return after == spans.begin() || (after - 1)->end <= time ? nullptr : &*(after - 1);
}

}  // namespace

std::string TrackPicture::Track::key() const {
    constexpr const char* kKinds[] = {"points", "state", "operations", "counter",
                                      "pool",   "core",  "program",    "pictures"};
    return "track/" + std::string(kKinds[static_cast<size_t>(kind)]) + "/" + name.toStdString();
}

/// A word in a box, cut to it; nothing where there is no room.
void TrackPicture::word(QPainter& painter, const TimeAxis& axis, const QRectF& box, const QString& text,
                        const QColor& color) {
    const double left = std::max<double>(box.left(), axis.box.left()) + 4,
                 right = std::min<double>(box.right(), axis.box.right()) - 2;
    if (right - left < 18) return;
    const QString fitting = painter.fontMetrics().elidedText(text, Qt::ElideRight, static_cast<int>(right - left));
    painter.setPen(color);
    painter.drawText(QRectF(left, box.top(), right - left, box.height()), Qt::AlignLeft | Qt::AlignVCenter, fitting);
    words_.emplace_back(left - 1, box.top(), painter.fontMetrics().horizontalAdvance(fitting) + 2, box.height());
}

void TrackPicture::setRecording(std::shared_ptr<const Recording> recording) {
    recording_ = std::move(recording);
    tracks_.clear();
    ranges_.clear();
    images_.clear();
    if (!recording_) return;
    const Recording& r = *recording_;
    const auto rangeOf = [&](const Extreme& all, const double* threshold) {
        Range range{std::min(0.0, all.low), std::max(0.0, all.high)};
        if (threshold && std::isfinite(*threshold)) range.high = std::max(range.high, *threshold);
        if (range.high <= range.low) range.high = range.low + 1;
        ranges_[tracks_.size()] = range;
        return range;
    };
    // Asked for, so next to the lanes.
    for (uint32_t i = 0; programs_ && i < programs_->size(); ++i)
        tracks_.push_back({Kind::Program, i, kBandHeight, toQString((*programs_)[i].name),
                           QObject::tr("ran %1").arg(toQString(durationText((*programs_)[i].ran)))});
    if (!r.points.empty())
        tracks_.push_back({Kind::Points, 0, kBandHeight, QObject::tr("points"), toQString(countText(r.points.size()))});
    for (uint32_t i = 0; i < r.states.size(); ++i)
        if (!r.states[i].spans.empty())
            tracks_.push_back({Kind::State, i, kBandHeight, toQString(r.states[i].name), QObject::tr("state")});
    if (!r.operations.empty()) {
        const auto rows = static_cast<int>(r.operationRows.size());
        const bool beyond = rows > kMostOperationRows;
        const QString count = toQString(countText(r.operations.size()));
        tracks_.push_back({Kind::Operations, 0,
                           std::min(rows, kMostOperationRows) * kOperationRow + 6 + (beyond ? kBeyondHeight : 0),
                           QObject::tr("operations"), beyond ? QObject::tr("%1 at once").arg(rows) : count});
    }
    for (uint32_t i = 0; i < r.counters.size(); ++i) {
        const Counter& counter = r.counters[i];
        if (counter.values.empty()) continue;
        const Extreme all = extremeIn(counter.values, counter.extremes, 0, counter.values.size());
        const QString unit = toQString(counter.unit);
        const QString detail = !all.any()            ? QObject::tr("no number")
                               : all.low == all.high ? QObject::tr("always %1 %2").arg(numberText(all.high), unit)
                                                     : QObject::tr("to %1 %2").arg(numberText(all.high), unit);
        rangeOf(all, counter.threshold ? &*counter.threshold : nullptr);
        tracks_.push_back({Kind::Counter, i, kCurveHeight, toQString(counter.name), detail});
    }
    for (uint32_t i = 0; i < r.pools.size(); ++i) {
        if (r.pools[i].times.empty()) continue;
        const Range of =
            rangeOf(extremeIn(r.pools[i].bytesInUse, r.pools[i].extremes, 0, r.pools[i].bytesInUse.size()), nullptr);
        tracks_.push_back({Kind::Pool, i, kCurveHeight, QObject::tr("memory: %1").arg(toQString(r.pools[i].name)),
                           QObject::tr("to %1").arg(bytesText(of.high))});
    }
    for (uint32_t i = 0; i < r.lanes.size(); ++i)
        if (r.lanes[i].kind == LaneKind::Core && !r.lanes[i].coreSpans.empty())
            tracks_.push_back({Kind::Core, i, kBandHeight, toQString(r.lanes[i].name), {}});
    if (!r.pictures.empty())
        tracks_.push_back({Kind::Pictures, 0, kPictureHeight, QObject::tr("screen"), QObject::tr("pictures")});
}

void TrackPicture::paint(QPainter& painter, const TimeAxis& axis, size_t index) {
    const Track& track = tracks_[index];
    const Recording& r = *recording_;
    painter.setFont(smallFont());
    switch (track.kind) {
        case Kind::Points: return paintPoints(painter, axis);
        case Kind::State: return paintState(painter, axis, r.states[track.index]);
        case Kind::Operations: return paintOperations(painter, axis);
        case Kind::Counter: {
            const Counter& counter = r.counters[track.index];
            return paintCurve(painter, axis, counter.times, counter.values, counter.extremes, ranges_.at(index),
                              counter.threshold ? &*counter.threshold : nullptr);
        }
        case Kind::Pool: {
            const Pool& pool = r.pools[track.index];
            return paintCurve(painter, axis, pool.times, pool.bytesInUse, pool.extremes, ranges_.at(index), nullptr);
        }
        case Kind::Core: return paintCore(painter, axis, r.lanes[track.index]);
        case Kind::Program: return paintProgram(painter, axis, (*programs_)[track.index]);
        case Kind::Pictures: return paintPictures(painter, axis);
    }
}

/// A value holds until the next one. Each column shows the lowest and highest of its values.
template <class Value>
void TrackPicture::paintCurve(QPainter& painter, const TimeAxis& axis, const Column<int64_t>& times,
                              const Column<Value>& values, const Column<Extreme>& extremes, const Range& range,
                              const double* threshold) const {
    const Theme& t = theme();
    const QRect box = axis.box.adjusted(0, 3, 0, -3);
    const auto yOf = [&](double v) {
        const double part = std::isfinite(v) ? std::clamp((v - range.low) / (range.high - range.low), 0.0, 1.0) : 0.0;
        return box.bottom() - part * (box.height() - 1);
    };
    const int first = std::max(box.left(), static_cast<int>(axis.xAt(times.front())));
    const int last = std::min(box.right(), static_cast<int>(axis.xAt(recording_->end)));
    if (last < first) return;
    // Drawn pixel by pixel and put down at once: rectangles for each column would cost most of a repaint.
    QImage picture(last - first + 1, box.height() + 1, QImage::Format_ARGB32_Premultiplied);
    picture.fill(Qt::transparent);
    auto* const pixels = reinterpret_cast<QRgb*>(picture.bits());
    const auto stride = static_cast<int>(picture.bytesPerLine() / static_cast<qsizetype>(sizeof(QRgb)));
    const auto column = [&](int x, double from, double to, const QColor& color) {
        const QRgb pixel = qPremultiply(color.rgba());
        const int bottom = std::clamp(static_cast<int>(to) - box.top(), 0, picture.height() - 1);
        for (int y = std::clamp(static_cast<int>(from) - box.top(), 0, bottom); y <= bottom; ++y)
            pixels[y * stride + x - first] = pixel;
    };
    double before = -1;
    size_t to = 0;  // the first value after the column
    for (int x = first; x <= last; ++x) {
        const size_t start = x == first ? positionAt(times, axis.timeAt(x)) : to - 1;
        const size_t from = start == times.size() ? 0 : start;
        to = static_cast<size_t>(
            std::upper_bound(times.begin() + static_cast<std::ptrdiff_t>(from), times.end(), axis.timeAt(x + 1)) -
            times.begin());
        if (from >= to) {
            to = from + 1;  // before the first value
            continue;
        }
        const Extreme inColumn = extremeIn(values, extremes, from, to);
        const double now = yOf(static_cast<double>(values[to - 1]));
        const double top = inColumn.any() ? yOf(inColumn.high) : now, bottom = inColumn.any() ? yOf(inColumn.low) : now;
        column(x, now, box.bottom(), t.headroom);
        if (bottom - top > 1) column(x, top, bottom, t.markerEdge);
        if (threshold && inColumn.high > *threshold) column(x, top, yOf(*threshold), t.plumMiddle);
        column(x, before < 0 ? now : std::min(before, now), before < 0 ? now : std::max(before, now), t.muted);
        before = now;
    }
    painter.drawImage(QPoint(first, box.top()), picture);
    if (threshold) {
        painter.setPen(QPen(t.text, 1, Qt::DashLine));
        painter.drawLine(QPointF(box.left(), yOf(*threshold)), QPointF(box.right(), yOf(*threshold)));
    }
}

void TrackPicture::paintPoints(QPainter& painter, const TimeAxis& axis) {
    const Theme& t = theme();
    const auto& points = recording_->points;
    const QRect box = axis.box;
    auto at = std::lower_bound(points.begin(), points.end(), axis.timeAt(box.left() - 3),
                               [](const Point& p, int64_t time) { return p.time < time; });
    while (at != points.end() && at->time <= axis.end) {
        const double x = std::floor(axis.xAt(at->time));
        const auto next = std::lower_bound(at, points.end(), axis.timeAt(x + 1),
                                           [](const Point& p, int64_t time) { return p.time < time; });
        const auto from = static_cast<size_t>(at - points.begin()), to = static_cast<size_t>(next - points.begin());
        const Severity worst = points[recording_->gravestPoint(from, std::max(from + 1, to))].severity;
        const bool serious = worst >= Severity::Warning;
        painter.fillRect(QRectF(x, box.top() + (serious ? 3 : 8), worst == Severity::Error ? 3 : 2,
                                box.height() - (serious ? 5 : 10)),
                         serious ? t.plum : t.muted);
        const auto after = next == at ? at + 1 : next;
        const double room =
            (after == points.end() ? box.right() : std::min<double>(box.right(), axis.xAt(after->time))) - x;
        if (room > 60)
            word(painter, axis, QRectF(x + 2, box.top(), room - 6, box.height()), toQString(recording_->text(at->text)),
                 t.muted);
        at = after;
    }
}

void TrackPicture::paintState(QPainter& painter, const TimeAxis& axis, const State& state) {
    const Theme& t = theme();
    auto at = std::lower_bound(state.spans.begin(), state.spans.end(), axis.begin,
                               [](const StateSpan& s, int64_t time) { return s.end < time; });
    while (at != state.spans.end() && at->begin < axis.end) {
        const double left = axis.xAt(at->begin), right = axis.xAt(at->end);
        const QRectF box(left, axis.box.top() + 2, std::max(1.0, right - left - 1), axis.box.height() - 5);
        painter.fillRect(box.intersected(axis.box), t.stage);
        word(painter, axis, box, toQString(recording_->text(at->value)), t.text);
        // The next one that ends in another column of pixels; mostly it is the next of all.
        const int64_t column = axis.timeAt(std::floor(right) + 1);
        if (++at != state.spans.end() && at->end < column)
            at = std::lower_bound(at, state.spans.end(), column,
                                  [](const StateSpan& s, int64_t time) { return s.end < time; });
    }
}

/// The first operations in rows; in each they follow one another, so that a column of pixels costs a look at its first.
void TrackPicture::paintOperations(QPainter& painter, const TimeAxis& axis) {
    constexpr double kNarrow = 2;  // pixels
    const Recording& r = *recording_;
    static_assert(kMostOperationRows <= kListedOperationRows);
    const size_t rows = std::min<size_t>(r.operationRows.size(), kMostOperationRows);
    for (size_t row = 0; row < rows; ++row) {
        const OperationRow& inRow = r.operationRows[row];
        const Column<uint32_t>& all = inRow.operations;
        auto at =
            std::partition_point(all.begin(), all.end(), [&](uint32_t i) { return r.operations[i].end < axis.begin; });
        while (at != all.end() && r.operations[*at].begin < axis.end) {
            const Operation& operation = r.operations[*at];
            const double left = axis.xAt(operation.begin), right = axis.xAt(operation.end);
            auto next = at + 1;
            bool failed = operation.code != 0;
            if (right - left < kNarrow) {  // on to what is not drawn over by this one
                const int64_t past = axis.timeAt(left + kNarrow);
                next = std::partition_point(next, all.end(), [&](uint32_t i) { return r.operations[i].begin < past; });
                failed =
                    inRow.anyFailed(static_cast<size_t>(at - all.begin()), static_cast<size_t>(next - all.begin()));
            }
            const QRectF box(left, axis.box.top() + 3 + static_cast<int>(row) * kOperationRow,
                             std::max(kNarrow, right - left), kOperationRow - 3);
            paintOperation(painter, axis, box, operation, failed);
            at = next;
        }
    }
    if (r.operationRows.size() > rows) paintOperationsBeyond(painter, axis);
}

void TrackPicture::paintOperation(QPainter& painter, const TimeAxis& axis, const QRectF& box,
                                  const Operation& operation, bool failed) {
    const Theme& t = theme();
    painter.fillRect(box, t.marker);
    painter.fillRect(QRectF(box.left(), box.bottom() - 2, box.width(), 2), failed ? t.plum : t.markerEdge);
    if (box.width() < 12) return;
    for (const OperationStep& step : recording_->stepsOf(operation))
        painter.fillRect(QRectF(axis.xAt(step.time), box.top(), 1, box.height()), t.text);
    QString words = toQString(recording_->sites[operation.site].name);
    if (operation.code) words += QObject::tr(": failed, %1").arg(operation.code);
    word(painter, axis, box, words, t.markerText);
}

/// Below the rows: the darker, the more go on at once that have no row there.
void TrackPicture::paintOperationsBeyond(QPainter& painter, const TimeAxis& axis) {
    const double most = static_cast<double>(recording_->operationRows.size()) - kMostOperationRows;
    const QRect band(axis.box.left(), axis.box.bottom() - kBeyondHeight - 1, axis.box.width(), kBeyondHeight - 2);
    for (int x = band.left(); x <= band.right(); ++x) {
        const auto atOnce = static_cast<double>(recording_->operationsAt(axis.timeAt(x)));
        if (atOnce <= kMostOperationRows) continue;
        QColor color = theme().markerText;
        color.setAlphaF(static_cast<float>(0.15 + 0.6 * std::min(1.0, (atOnce - kMostOperationRows) / most)));
        painter.fillRect(QRect(x, band.top(), 1, band.height()), color);
    }
}

void TrackPicture::paintCore(QPainter& painter, const TimeAxis& axis, const Lane& lane) {
    const Theme& t = theme();
    const auto ours = [&](uint32_t thread) {
        return std::any_of(recording_->lanes.begin(), recording_->lanes.end(),
                           [&](const Lane& l) { return l.kind == LaneKind::Thread && l.osId == thread && thread; });
    };
    const Column<CoreSpan>& spans = lane.coreSpans;
    const double nsPerPixel = static_cast<double>(axis.end - axis.begin) / std::max(1, axis.box.width());
    auto at = static_cast<size_t>(std::lower_bound(spans.begin(), spans.end(), axis.begin,
                                                   [](const CoreSpan& s, int64_t time) { return s.end < time; }) -
                                  spans.begin());
    while (at < spans.size() && spans[at].begin < axis.end) {
        const CoreSpan& span = spans[at];
        const double left = axis.xAt(span.begin), right = axis.xAt(span.end);
        if (right - left >= 2) {
            const QRectF box(left, axis.box.top() + 2, right - left, axis.box.height() - 5);
            if (span.thread != layout::kIdleThread && span.thread != layout::kUnknownThread) {
                const bool own = ours(span.thread);
                painter.fillRect(box, own ? t.marker : t.waiting);
                if (!own) painter.fillRect(box, QBrush(t.muted, Qt::Dense6Pattern));
                painter.fillRect(QRectF(box.left(), box.top(), 1, box.height()), t.markerEdge);
                word(painter, axis, box, toQString(recording_->osThreadText(span.thread)), t.markerText);
            }
            ++at;
            continue;
        }
        const auto next =
            axis.begin + static_cast<int64_t>(std::ceil((std::floor(left) + 1 - axis.box.left()) * nsPerPixel));
        const size_t end = firstFrom(at + 1, spans.size(), [&](size_t i) { return spans[i].begin >= next; });
        const double known = static_cast<double>(spans[end - 1].end - span.begin) / nsPerPixel;  // part of the column
        const double busy = busyPartOf(spans, at, end) * std::min(1.0, known);
        QColor color = t.markerEdge;
        color.setAlphaF(static_cast<float>(std::clamp(busy, 0.15, 1.0)));
        if (busy > 0) painter.fillRect(QRectF(std::floor(left), axis.box.top() + 2, 1, axis.box.height() - 5), color);
        at = end;
    }
    // Dots: where call stacks were taken.
    const auto core = static_cast<uint32_t>(&lane - recording_->lanes.data());
    auto sample = std::lower_bound(recording_->samples.begin(), recording_->samples.end(), axis.begin,
                                   [](const StackSample& s, int64_t time) { return s.time < time; });
    constexpr int kLooked = 64;  // samples of other cores in one place
    const auto isOfCore = [core](const StackSample& s) { return s.core == core; };
    while (sample != recording_->samples.end() && sample->time < axis.end) {
        const auto left = recording_->samples.end() - sample;
        const auto own = std::find_if(sample, sample + std::min<std::ptrdiff_t>(kLooked, left), isOfCore);
        const bool found = own != recording_->samples.end() && isOfCore(*own) && own->time < axis.end;
        const auto x = static_cast<int>(std::floor(axis.xAt(found ? own->time : sample->time)));
        if (found) painter.fillRect(QRectF(x, axis.box.bottom() - 5, 1, 2), t.text);
        sample = std::lower_bound(sample + 1, recording_->samples.end(), axis.timeAt(x + (found ? 2 : 1)),
                                  [](const StackSample& s, int64_t time) { return s.time < time; });
    }
}

/// Where it had a core, drawn as other programs are on the cores; darker the more of a pixel it had one.
void TrackPicture::paintProgram(QPainter& painter, const TimeAxis& axis, const OtherProgram& program) {
    const Theme& t = theme();
    auto at = std::lower_bound(program.spans.begin(), program.spans.end(), axis.begin,
                               [](const OtherProgram::Span& s, int64_t time) { return s.end < time; });
    while (at != program.spans.end() && at->begin < axis.end) {
        const double left = axis.xAt(at->begin), right = axis.xAt(at->end);
        if (right - left >= 2) {
            const QRectF box(left, axis.box.top() + 2, right - left, axis.box.height() - 5);
            painter.fillRect(box, t.waiting);
            painter.fillRect(box, QBrush(t.muted, Qt::Dense6Pattern));
            painter.fillRect(QRectF(box.left(), box.top(), 1, box.height()), t.markerEdge);
            ++at;
            continue;
        }
        const double column = std::floor(left);
        const int64_t from = axis.timeAt(column), next = std::max(axis.timeAt(column + 1), at->begin + 1);
        QColor color = t.markerEdge;
        color.setAlphaF(static_cast<float>(std::clamp(
            static_cast<double>(program.between(from, next)) / static_cast<double>(next - from), 0.15, 1.0)));
        painter.fillRect(QRectF(column, axis.box.top() + 2, 1, axis.box.height() - 5), color);
        at = std::lower_bound(at + 1, program.spans.end(), next,
                              [](const OtherProgram::Span& s, int64_t time) { return s.begin < time; });
    }
}

void TrackPicture::paintPictures(QPainter& painter, const TimeAxis& axis) {
    const auto& pictures = recording_->pictures;
    const int height = axis.box.height() - 6;
    double drawnTo = -1e18;
    auto at = std::upper_bound(pictures.begin(), pictures.end(), axis.begin,
                               [](int64_t time, const Picture& p) { return time < p.time; });
    if (at != pictures.begin()) --at;  // what the screen showed when the view begins
    for (; at != pictures.end() && at->time < axis.end; ++at) {
        const double x = std::max<double>(axis.box.left() - 1, axis.xAt(at->time)),
                     width = static_cast<double>(height) * at->width / at->height;
        painter.fillRect(QRectF(x, axis.box.top(), 1, axis.box.height()), theme().markerEdge);
        if (x < drawnTo) continue;
        const auto [image, isNew] = images_.try_emplace(static_cast<size_t>(at - pictures.begin()));
        const std::string_view pixels = isNew ? recording_->text(at->pixels) : std::string_view();
        // At its final size and in the painter's own form, so that drawing it is copying. Where the pixels could not be
        // read, it stays empty.
        if (isNew && pixels.size() == size_t{at->width} * at->height * 3)
            image->second = QImage(reinterpret_cast<const uchar*>(pixels.data()), static_cast<int>(at->width),
                                   static_cast<int>(at->height), static_cast<int>(at->width * 3), QImage::Format_RGB888)
                                .scaled(std::max(1, static_cast<int>(width)), height, Qt::IgnoreAspectRatio,
                                        Qt::SmoothTransformation)
                                .convertToFormat(QImage::Format_ARGB32_Premultiplied);
        painter.drawImage(QPoint(static_cast<int>(x) + 2, axis.box.top() + 3), image->second);
        drawnTo = x + width + 6;
    }
}

QString TrackPicture::operationWords(const Operation& operation) const {
    const Recording& r = *recording_;
    const Site& site = r.sites[operation.site];
    QString words = "<b>" + toQString(site.name).toHtmlEscaped() + "</b>";
    if (!site.category.empty()) words += " · " + toQString(site.category).toHtmlEscaped();
    if (!site.description.empty()) words += "<br>" + toQString(site.description).toHtmlEscaped();
    words += QObject::tr("<br>%1, begun on %2")
                 .arg(toQString(durationText(operation.end - operation.begin)),
                      toQString(r.lanes[operation.beganOn].name).toHtmlEscaped());
    words += operation.endedOn == kNone
                 ? QObject::tr(", never ended")
                 : QObject::tr(", ended on %1").arg(toQString(r.lanes[operation.endedOn].name).toHtmlEscaped());
    for (const OperationStep& step : r.stepsOf(operation))
        words += QObject::tr("<br>after %1: %2 (%3)")
                     .arg(toQString(durationText(step.time - operation.begin)),
                          toQString(r.sites[step.site].name).toHtmlEscaped(),
                          toQString(r.lanes[step.lane].name).toHtmlEscaped());
    if (operation.code)
        words += QObject::tr("<br>failed with code %1").arg(operation.code) +
                 (operation.text ? ": " + toQString(r.text(operation.text)).toHtmlEscaped() : QString());
    return words;
}

QString TrackPicture::pointWords(const TimeAxis& axis, int x) const {
    constexpr int kMostShown = 6;
    const Recording& r = *recording_;
    auto near = std::lower_bound(r.points.begin(), r.points.end(), axis.timeAt(x - 3),
                                 [](const Point& p, int64_t t) { return p.time < t; });
    QString words;
    for (int shown = 0; near != r.points.end() && near->time <= axis.timeAt(x + 4) && shown < kMostShown;
         ++near, ++shown) {
        if (shown) words += "<br>";
        words += QString("<b>%1</b> · %2").arg(toQString(kindOf(*near)), toQString(r.text(near->text)).toHtmlEscaped());
        if (near->code) words += QObject::tr(" (code %1)").arg(*near->code);
        words += QObject::tr(" · %1, at %2")
                     .arg(toQString(r.lanes[near->lane].name).toHtmlEscaped(), toQString(durationText(near->time)));
    }
    return words;
}

const Point* TrackPicture::pointAt(const TimeAxis& axis, size_t track, const QPoint& at) const {
    if (tracks_[track].kind != Kind::Points) return nullptr;
    constexpr int kNear = 4;
    const Point* nearest = nullptr;
    const int64_t time = axis.timeAt(at.x());
    auto point = std::lower_bound(recording_->points.begin(), recording_->points.end(), axis.timeAt(at.x() - kNear),
                                  [](const Point& p, int64_t t) { return p.time < t; });
    for (; point != recording_->points.end() && point->time <= axis.timeAt(at.x() + kNear + 1); ++point)
        if (!nearest || std::abs(point->time - time) < std::abs(nearest->time - time)) nearest = &*point;
    return nearest;
}

QString TrackPicture::stateWords(const State& state, int64_t time) const {
    const StateSpan* const span = spanAt(state.spans, time);
    if (!span) return {};
    return QObject::tr("<b>%1</b>: %2, for %3")
        .arg(toQString(state.name).toHtmlEscaped(), toQString(recording_->text(span->value)).toHtmlEscaped(),
             toQString(durationText(span->end - span->begin)));
}

QString TrackPicture::operationWords(const TimeAxis& axis, const QPoint& at) const {
    const Recording& r = *recording_;
    const int row = (at.y() - axis.box.top() - 3) / kOperationRow;
    const int64_t first = axis.timeAt(at.x() - 2), last = axis.timeAt(at.x() + 2);
    if (row >= kMostOperationRows || row >= static_cast<int>(r.operationRows.size()))
        return r.operationRows.size() > kMostOperationRows
                   ? QObject::tr("<b>%1</b> at once")
                         .arg(toQString(plural(r.operationsAt(axis.timeAt(at.x())), "operation", "operations")))
                   : QString();
    const Column<uint32_t>& all = r.operationRows[static_cast<size_t>(row)].operations;
    const auto found =
        std::partition_point(all.begin(), all.end(), [&](uint32_t i) { return r.operations[i].end < first; });
    return found != all.end() && r.operations[*found].begin <= last ? operationWords(r.operations[*found]) : QString();
}

QString TrackPicture::counterWords(const Counter& counter, int64_t time) const {
    const size_t held = positionAt(counter.times, time);
    if (held == counter.times.size()) return {};
    QString words = QObject::tr("<b>%1</b>: %2 %3")
                        .arg(toQString(counter.name).toHtmlEscaped(), numberText(counter.values[held]),
                             toQString(counter.unit).toHtmlEscaped());
    if (counter.threshold) words += QObject::tr("<br>threshold %1").arg(numberText(*counter.threshold));
    return words;
}

QString TrackPicture::poolWords(uint32_t index, int64_t time) const {
    constexpr size_t kMostShown = 5;
    const Recording& r = *recording_;
    const Pool& pool = r.pools[index];
    const size_t held = positionAt(pool.times, time);
    if (held == pool.times.size()) return {};
    QString words =
        QObject::tr("<b>%1</b>: %2 in use")
            .arg(toQString(pool.name).toHtmlEscaped(), bytesText(static_cast<double>(pool.bytesInUse[held])));
    std::vector<const Allocation*> open;
    for (const Allocation& allocation : r.allocations)
        if (allocation.pool == index && allocation.name && allocation.taken <= time && allocation.released > time)
            open.push_back(&allocation);
    std::sort(open.begin(), open.end(), [](auto* x, auto* y) { return x->bytes > y->bytes; });
    for (size_t i = 0; i < std::min(kMostShown, open.size()); ++i)
        words +=
            QObject::tr("<br>%1: %2%3")
                .arg(toQString(r.text(open[i]->name)).toHtmlEscaped(), bytesText(static_cast<double>(open[i]->bytes)),
                     open[i]->isReleased() ? QString() : QObject::tr(", never released"));
    return words;
}

QString TrackPicture::programWords(const OtherProgram& program, int64_t time) const {
    QString words = QObject::tr("<b>%1</b>, another program: ran %2 in all")
                        .arg(toQString(program.name).toHtmlEscaped(), toQString(durationText(program.ran)));
    const auto after = std::upper_bound(program.spans.begin(), program.spans.end(), time,
                                        [](int64_t t, const OtherProgram::Span& s) { return t < s.begin; });
    if (after == program.spans.begin() || after[-1].end <= time) return words;
    return words +
           QObject::tr("<br>had a core for %1 here").arg(toQString(durationText(after[-1].end - after[-1].begin)));
}

QString TrackPicture::coreWords(const TimeAxis& axis, uint32_t core, int x) const {
    constexpr int kMostShown = 8;  // of a call stack
    const Recording& r = *recording_;
    const CoreSpan* const span = spanAt(r.lanes[core].coreSpans, axis.timeAt(x));
    if (!span) return {};
    QString words =
        QObject::tr("<b>%1</b>: %2, for %3")
            .arg(toQString(r.lanes[core].name).toHtmlEscaped(), toQString(r.osThreadText(span->thread)).toHtmlEscaped(),
                 toQString(durationText(span->end - span->begin)));
    auto sample = std::lower_bound(r.samples.begin(), r.samples.end(), axis.timeAt(x - 3),
                                   [](const StackSample& s, int64_t t) { return s.time < t; });
    const int64_t past = axis.timeAt(x + 4);
    while (sample != r.samples.end() && sample->time <= past && sample->core != core) ++sample;
    if (sample == r.samples.end() || sample->time > past) return words;
    words += QObject::tr("<br>call stack of %1, innermost first:")
                 .arg(toQString(r.osThreadText(sample->thread)).toHtmlEscaped());
    QStringList stack;
    if (symbols_) {
        std::vector<Symbols::Place> places;
        symbols_->stackOf(r, *sample, places);
        for (auto place = places.rbegin(); place != places.rend(); ++place)
            stack << toQString(symbols_->fullName(place->function));
    } else {
        for (uint32_t i = 0; i < sample->count; ++i)
            stack << toQString(r.addressText(r.stackAddresses[sample->first + i]));
    }
    for (const QString& function : stack.mid(0, kMostShown)) words += "<br>" + function.toHtmlEscaped();
    if (stack.size() > kMostShown) words += QObject::tr("<br>and %1 more").arg(stack.size() - kMostShown);
    return words;
}

QString TrackPicture::wordsAt(const TimeAxis& axis, size_t index, const QPoint& at) const {
    const Recording& r = *recording_;
    const Track& track = tracks_[index];
    const int64_t time = axis.timeAt(at.x());
    switch (track.kind) {
        case Kind::Points: return pointWords(axis, at.x());
        case Kind::State: return stateWords(r.states[track.index], time);
        case Kind::Operations: return operationWords(axis, at);
        case Kind::Counter: return counterWords(r.counters[track.index], time);
        case Kind::Pool: return poolWords(track.index, time);
        case Kind::Core: return coreWords(axis, track.index, at.x());
        case Kind::Program: return programWords((*programs_)[track.index], time);
        case Kind::Pictures: {
            const size_t picture = pictureAt(r, time);
            if (picture == kNoPicture) return {};
            return QObject::tr("The screen at %1").arg(toQString(durationText(r.pictures[picture].time)));
        }
    }
    return {};
}

void TrackPicture::paintSchedule(QPainter& painter, const TimeAxis& axis, int top, const Lane& lane) {
    const Theme& t = theme();
    const Column<ScheduleSpan>& spans = lane.schedule;
    const double nsPerPixel = static_cast<double>(axis.end - axis.begin) / std::max(1, axis.box.width());
    QVector<QRectF> dots;
    const auto draw = [&](double left, double right, ThreadState state, double strength = 1) {
        constexpr double kPalest = 0.25;
        const QRectF line(left, top, std::max(1.0, right - left), 3);
        QColor running = t.muted;
        running.setAlphaF(static_cast<float>(std::clamp(strength, kPalest, 1.0)));
        if (state == ThreadState::Running)
            painter.fillRect(line, running);
        else if (state == ThreadState::Ready)  // wants a core and gets none
            painter.fillRect(line, QBrush(t.text, Qt::BDiagPattern));
        else
            for (double x = std::ceil(left / 4) * 4; x < right; x += 4) dots.push_back({x, double(top + 2), 1, 1});
    };
    auto at = static_cast<size_t>(std::lower_bound(spans.begin(), spans.end(), axis.begin,
                                                   [](const ScheduleSpan& s, int64_t time) { return s.end < time; }) -
                                  spans.begin());
    while (at < spans.size() && spans[at].begin < axis.end) {
        const double left = std::max<double>(axis.box.left(), axis.xAt(spans[at].begin)),
                     right = std::min<double>(axis.box.right() + 1, axis.xAt(spans[at].end));
        if (right - left >= 1) {
            draw(left, right, spans[at].state);
            ++at;
            continue;
        }
        const double column = std::floor(left);
        const auto next = axis.begin + static_cast<int64_t>(std::ceil((column + 1 - axis.box.left()) * nsPerPixel));
        const size_t end = firstFrom(at + 1, spans.size(), [&](size_t i) { return spans[i].begin >= next; });
        // Ready for a quarter of the column before running, which is paler the less it ran, before blocked.
        const TimeSplit split = splitOf(lane, at, end);
        const bool ready = static_cast<double>(split.ready) > nsPerPixel / 4;
        draw(column, column + 1,
             ready       ? ThreadState::Ready
             : split.ran ? ThreadState::Running
                         : ThreadState::Blocked,
             static_cast<double>(split.ran) / static_cast<double>(std::max<int64_t>(1, split.known())));
        at = end;
    }
    painter.setPen(Qt::NoPen);
    painter.setBrush(t.muted);
    painter.drawRects(dots);
}

}  // namespace fugato
