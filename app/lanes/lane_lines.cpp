// SPDX-License-Identifier: GPL-3.0-or-later
//
// What of the lanes' picture runs through several lanes: the critical path, the selected frame's edges, the selected
// time, the chosen instant, what is measured, and what the selected marker is connected with.
#include <QObject>
#include <QPainter>
#include <QPainterPath>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"
#include "lane_picture.h"

namespace fugato {

/// The chosen range of time: its edges, a light ground, and its length.
void LanePicture::paintRange(QPainter& painter, const QRect& area) {
    if (!range_) return;
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    const double left = std::max<double>(axis.left() - 2, xAt(area, range_->begin)),
                 right = std::min<double>(axis.right() + 2, xAt(area, range_->end));
    if (right < axis.left() || left > axis.right()) return;
    painter.setClipRect(QRect(axis.left(), area.top(), axis.width(), area.height()));
    QColor ground = t.near;
    ground.setAlpha(34);
    painter.fillRect(QRectF(left, axis.top(), right - left, axis.height()), ground);
    painter.setPen(QPen(t.text, 1, Qt::DotLine));
    painter.drawLine(QPointF(left, area.top()), QPointF(left, area.bottom()));
    painter.drawLine(QPointF(right, area.top()), QPointF(right, area.bottom()));
    painter.setFont(smallBoldFont());
    const QString words = QObject::tr("selected %1").arg(toQString(durationText(range_->end - range_->begin)));
    const double width = painter.fontMetrics().horizontalAdvance(words) + 6;
    const double at = std::clamp((left + right - width) / 2, static_cast<double>(axis.left()),
                                 std::max<double>(axis.left(), axis.right() - width));
    painter.fillRect(QRectF(at, area.top() + 1, width, 14), t.panel);
    painter.setPen(t.text);
    painter.drawText(QRectF(at + 3, area.top() + 1, width, 14), Qt::AlignLeft | Qt::AlignVCenter, words);
    painter.setClipping(false);
}

/// All of `clip` but the words that a line upwards at one of these places would go through.
QRegion LanePicture::besideWords(const QRect& clip, const std::vector<double>& lines) const {
    constexpr double kNear = 2;
    QRegion region(clip);
    for (const QRectF& word : words_)
        if (std::any_of(lines.begin(), lines.end(),
                        [&](double x) { return x > word.left() - kNear && x < word.right() + kNear; }))
            region -= word.toAlignedRect();
    return region;
}

/// The selected frame's begin, end and deadline: below the ruler, or on it and with their names.
void LanePicture::paintFrameEdges(QPainter& painter, const QRect& area, bool onRuler) {
    if (!explained_) return;
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    const Frame& f = explained_->times();
    const int64_t deadline = f.begin + explained_->verdict().deadline;
    const int from = area.top() + kHeaderHeight - 16;
    const double left = xAt(area, f.begin), right = xAt(area, f.end), due = xAt(area, deadline);
    const QRect clip(axis.left(), area.top(), axis.width(), area.height());
    painter.setClipRect(clip);
    // In pieces beside the words: Qt draws dashed lines through a clip of several rectangles.
    const auto upright = [&](double x) {
        const QRect line = onRuler ? QRect(static_cast<int>(x), from, 1, axis.top() - from)
                                   : QRect(static_cast<int>(x), axis.top(), 1, area.bottom() - axis.top());
        for (const QRect& piece : besideWords(line, {x}))
            painter.drawLine(QPointF(x, piece.top()), QPointF(x, piece.bottom()));
    };
    painter.setPen(QPen(t.muted, 1));
    upright(left);
    upright(right);
    painter.setPen(QPen(t.text, 1, Qt::DashLine));
    upright(due);
    if (!onRuler) return painter.setClipping(false);
    painter.setFont(smallBoldFont());
    const QString name = QObject::tr("frame %1").arg(toQString(countText(explained_->frame))),
                  end = QObject::tr("deadline %1").arg(toQString(durationText(explained_->verdict().deadline)));
    const auto label = [&](double x, const QString& words, const QColor& color) {
        const double width = painter.fontMetrics().horizontalAdvance(words) + 6;
        painter.fillRect(QRectF(x + 2, from + 4, width, 12), t.panel);
        painter.setPen(color);
        painter.drawText(QRectF(x + 5, from + 3, width, 13), Qt::AlignLeft | Qt::AlignVCenter, words);
        return x + 2 + width;
    };
    if (right - left > 24 && right > axis.left() && left < axis.right()) {
        const double taken = label(std::max<double>(left, axis.left()), name, t.text);
        if (due > taken || due < left) label(due, end, t.muted);
    }
    painter.setClipping(false);
}

void LanePicture::paintCriticalPath(QPainter& painter, const QRect& area, int scrolled) {
    if (!explained_ || explained_->path.empty()) return;
    const auto& path = explained_->path;
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    const double left = xAt(area, path.back().begin), right = xAt(area, path.front().end);
    if (right - left < 8) return;  // too narrow to be read
    std::vector<double> crossings{right, left};
    for (const ExplainedFrame::Stay& stay : path) crossings.push_back(xAt(area, stay.begin));
    painter.setClipRegion(besideWords(axis, crossings));
    painter.setRenderHint(QPainter::Antialiasing);
    const auto yOf = [&](uint32_t lane) {
        return laneRect(area, scrolled, lane).top() + 5.5;
    };  // the thread's own line stands below
    QPainterPath line;
    double x = right, y = yOf(path.front().lane);
    line.moveTo(x, y);
    for (const ExplainedFrame::Stay& stay : path) {
        const double to = xAt(area, stay.begin), level = yOf(stay.lane);
        if (level != y) {
            const double bend = std::min({5.0, std::abs(level - y) / 2, std::abs(x - to)});
            line.lineTo(x, level + (level > y ? -bend : bend));
            line.quadTo(x, level, x - bend, level);
        }
        line.lineTo(to, level);
        x = to;
        y = level;
    }
    painter.setPen(QPen(t.paper, 5, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
    painter.setBrush(Qt::NoBrush);
    painter.drawPath(line);
    painter.setPen(QPen(t.path, 2.4, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
    painter.drawPath(line);
    painter.setPen(Qt::NoPen);
    painter.setBrush(t.path);
    painter.drawEllipse(QPointF(right, yOf(path.front().lane)), 4, 4);
    painter.drawEllipse(QPointF(x, y), 4, 4);
    painter.setRenderHint(QPainter::Antialiasing, false);
    painter.setClipping(false);
}

/// From what came first to what came of it, with an arrow there.
void LanePicture::paintConnections(QPainter& painter, const QRect& area, int scrolled) {
    if (!connections_ || !marker_.valid()) return;
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    painter.setClipRect(axis);
    painter.setRenderHint(QPainter::Antialiasing);
    const double left = axis.left() - axis.width(), right = axis.right() + axis.width();  // where Qt still draws well
    for (const Connection& c : connections_->list) {
        if (c.lane >= laneCount()) continue;
        QPointF here(std::clamp(xAt(area, c.here), left, right), yOf(area, scrolled, marker_.lane, marker_.row));
        QPointF there(std::clamp(xAt(area, c.there), left, right),
                      yOf(area, scrolled, c.lane, c.marker.valid() ? c.marker.row : kNone));
        if (c.here < c.there) std::swap(here, there);  // `there` came first
        const double bend = std::clamp(std::abs(here.x() - there.x()) / 2, 10.0, 60.0);
        QPainterPath line(there);
        line.cubicTo(there + QPointF(bend, 0), here - QPointF(bend, 0), here);
        painter.setBrush(Qt::NoBrush);
        painter.setPen(QPen(t.paper, 4));
        painter.drawPath(line);
        const bool likely = c.kind == Connection::Kind::LikelyEndedBy;
        painter.setPen(QPen(t.text, 1.3, likely ? Qt::DashLine : Qt::SolidLine));
        painter.drawPath(line);
        painter.setPen(Qt::NoPen);
        painter.setBrush(t.text);
        const QPointF head[] = {here, here + QPointF(-6, -3.5), here + QPointF(-6, 3.5)};
        painter.drawPolygon(head, 3);
    }
    painter.setRenderHint(QPainter::Antialiasing, false);
    painter.setClipping(false);
}

/// Words on the ruler beside a line, where there is room at its right or left.
void LanePicture::paintTimeFlag(QPainter& painter, const QRect& area, double x, const QString& words) {
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    painter.setFont(smallBoldFont());
    const double width = painter.fontMetrics().horizontalAdvance(words) + 8;
    const double left = x + width < axis.right() ? x : x - width;
    const QRectF box(left, area.top() + 1, width, 15);
    painter.fillRect(box, t.text);
    painter.setPen(wordsOn(t.text));
    painter.drawText(box, Qt::AlignCenter, words);
}

void LanePicture::paintMarks(QPainter& painter, const QRect& area) {
    const Theme& t = theme();
    const QRect axis = axisOf(area);
    painter.setClipRect(QRect(axis.left(), area.top(), axis.width() + 1, area.height()));
    const auto line = [&](int64_t time, Qt::PenStyle style) {
        const double x = std::floor(xAt(area, time)) + 0.5;
        painter.setPen(QPen(t.text, 1, style));
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()));
        return x;
    };
    const auto inView = [&](int64_t time) { return time >= begin() && time < end(); };
    const auto flag = [&](int64_t time) { return toQString(exactText(time - rulerZero())); };
    if (marks_.instant && inView(*marks_.instant)) {
        const double x = line(*marks_.instant, Qt::SolidLine);
        if (!marks_.anchor) paintTimeFlag(painter, area, x, flag(*marks_.instant));
    }
    if (marks_.anchor) {
        if (inView(*marks_.anchor)) line(*marks_.anchor, Qt::SolidLine);
        const std::optional<int64_t> to = marks_.to ? marks_.to : marks_.instant;
        if (marks_.to && inView(*marks_.to)) line(*marks_.to, Qt::DotLine);
        if (to) {
            const double edges[] = {xAt(area, *marks_.anchor), xAt(area, *to)};
            const double left = std::max<double>(axis.left() - 2, std::min(edges[0], edges[1])),
                         right = std::min<double>(axis.right() + 2, std::max(edges[0], edges[1]));
            if (right >= left) {
                QColor band = t.text;
                band.setAlpha(26);
                painter.fillRect(QRectF(left, area.top(), right - left, area.height()), band);
            }
            const QString words = toQString(exactText(*to - *marks_.anchor));
            painter.setFont(smallBoldFont());
            const double width = painter.fontMetrics().horizontalAdvance(words) + 8;
            paintTimeFlag(painter, area,
                          std::clamp((left + right - width) / 2, static_cast<double>(axis.left()),
                                     std::max<double>(axis.left(), axis.right() - width - 1)),
                          words);
        } else if (inView(*marks_.anchor)) {
            paintTimeFlag(painter, area, xAt(area, *marks_.anchor), QObject::tr("from here"));
        }
    }
    painter.setClipping(false);
}

}  // namespace fugato
