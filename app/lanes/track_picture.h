// SPDX-License-Identifier: GPL-3.0-or-later
//
// What stands below the lanes on the same time axis: points, states, operations, counters, memory,
// cores, other programs and pictures of the screen; and the thin line above each thread that tells whether it ran, was
// ready or was blocked. Painting costs pixels, not events, but for counters (their values in view).
#pragma once

#include <QPainter>
#include <QRect>
#include <functional>
#include <map>
#include <memory>
#include <utility>
#include <vector>

#include "core/ask/other_programs.h"
#include "core/symbols/symbols.h"

namespace fugato {

/// Where times lie on the screen.
struct TimeAxis {
    QRect box;
    int64_t begin = 0, end = 1;
    double xAt(int64_t time) const {
        return box.left() + static_cast<double>(time - begin) / static_cast<double>(end - begin) * box.width();
    }
    int64_t timeAt(double x) const {
        return begin +
               static_cast<int64_t>((x - box.left()) / std::max(1, box.width()) * static_cast<double>(end - begin));
    }
};

class TrackPicture {
public:
    enum class Kind { Points, State, Operations, Counter, Pool, Core, Program, Pictures };
    struct Track {
        Kind kind{};
        uint32_t index = 0;  // state, counter, pool, lane (of a core) or other program
        int height = 0;
        QString name, detail;     // for the label
        std::string key() const;  // the same in other recordings of the program
    };

    void setRecording(std::shared_ptr<const Recording> recording);
    /// The other programs that are shown; null: none. Before setRecording().
    void setPrograms(std::shared_ptr<const OtherProgramList> programs) { programs_ = std::move(programs); }
    /// Functions for call stacks; null: addresses are told.
    void setSymbols(std::shared_ptr<const Symbols> symbols) { symbols_ = std::move(symbols); }
    void themeChanged() { images_.clear(); }
    const std::vector<Track>& tracks() const { return tracks_; }

    /// Paints a track into the axis; the painter is clipped to it.
    void paint(QPainter& painter, const TimeAxis& axis, size_t track);
    /// Where words stand since this was called last.
    std::vector<QRectF> takeWords() { return std::exchange(words_, {}); }
    /// What the person is told about what lies under a point; empty where nothing does.
    QString wordsAt(const TimeAxis& axis, size_t track, const QPoint& at) const;
    /// The point nearest to a place in a track of points, or null.
    const Point* pointAt(const TimeAxis& axis, size_t track, const QPoint& at) const;

    /// The line above a thread: solid where it ran, hatched where it was ready, dotted where blocked.
    static void paintSchedule(QPainter& painter, const TimeAxis& axis, int top, const Lane& lane);

private:
    struct Range {
        double low, high;
    };
    void word(QPainter& painter, const TimeAxis& axis, const QRectF& box, const QString& text, const QColor& color);
    template <class Value>
    void paintCurve(QPainter& painter, const TimeAxis& axis, const Column<int64_t>& times, const Column<Value>& values,
                    const Column<Extreme>& extremes, const Range& range, const double* threshold) const;
    void paintPoints(QPainter& painter, const TimeAxis& axis);
    void paintState(QPainter& painter, const TimeAxis& axis, const State& state);
    void paintOperations(QPainter& painter, const TimeAxis& axis);
    void paintOperation(QPainter& painter, const TimeAxis& axis, const QRectF& box, const Operation& operation,
                        bool failed);
    void paintOperationsBeyond(QPainter& painter, const TimeAxis& axis);
    void paintCore(QPainter& painter, const TimeAxis& axis, const Lane& lane);
    void paintProgram(QPainter& painter, const TimeAxis& axis, const OtherProgram& program);
    void paintPictures(QPainter& painter, const TimeAxis& axis);
    // What tooltips say of each kind.
    QString pointWords(const TimeAxis& axis, int x) const;
    QString stateWords(const State& state, int64_t time) const;
    QString operationWords(const TimeAxis& axis, const QPoint& at) const;
    QString operationWords(const Operation& operation) const;
    QString counterWords(const Counter& counter, int64_t time) const;
    QString poolWords(uint32_t index, int64_t time) const;
    QString programWords(const OtherProgram& program, int64_t time) const;
    QString coreWords(const TimeAxis& axis, uint32_t core, int x) const;

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Symbols> symbols_;
    std::shared_ptr<const OtherProgramList> programs_;
    std::vector<Track> tracks_;
    std::map<size_t, Range> ranges_;   // of counters and pools, by track
    std::map<size_t, QImage> images_;  // of pictures
    std::vector<QRectF> words_;
};

}  // namespace fugato
