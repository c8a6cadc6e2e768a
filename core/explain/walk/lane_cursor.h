// SPDX-License-Identifier: GPL-3.0-or-later
//
// A place in the markers of one lane that mostly goes back in time, as the critical path of a frame does. It keeps
// where it was in each row, so that the markers next to there are found without a search. Reads the recording,
// which outlives it; belongs to one thread.
#pragma once

#include <span>
#include <vector>

#include "core/model/recording.h"

namespace fugato {

/// Times and occurrences by marker, which are cleared by visiting only what was touched.
struct MarkerSums {
    struct Sum {
        int64_t self = 0;    // ns inside the marker and in none that it holds
        uint32_t calls = 0;  // occurrences that were not counted before
        bool touched = false;
    };
    std::vector<Sum> of;  // by path; as many as the recording has
    std::vector<PathId> touched;
};

class LaneCursor {
public:
    LaneCursor(const Recording& recording, uint32_t lane);

    struct Here {
        MarkerRef marker;  // innermost open just before the instant
        PathId path = 0;   // of that marker
        bool wait = false;
        int64_t partBegin = INT64_MIN;  // since when it has been the innermost
    };
    /// What is open just before an instant. Quickest where times run backwards.
    Here at(int64_t time);
    /// Of the outermost marker that at() met last.
    int64_t outermostBegin() const { return rows_[0].begin; }
    int64_t outermostEnd() const { return rows_[0].end; }
    /// When the last wait ended that begins before `time` and lies in no other wait; after `time` inside of it.
    /// INT64_MIN where there is none.
    int64_t waitedUntil(int64_t time);

    /// Adds the time of [begin, end), in which nothing waits, to the markers in which it was spent; what lies in none
    /// goes to path 0. Row after row and without taking it apart into segments, so it is much quicker than at().
    void addUp(int64_t begin, int64_t end, MarkerSums& sums);
    /// Occurrences are counted once from here on: addUp() and countUp() must go back in time until the next call.
    void countAnew() { ++counting_; }
    /// Calls `take(path)` for the marker and those that hold it, as far as they have not been counted.
    template <class Take>
    void countUp(const MarkerRef& marker, PathId path, Take&& take) {
        uint32_t index = marker.index;
        for (uint32_t row = marker.row;; --row) {
            if (counted(rows_[row], index)) break;  // and with it everything above
            count(rows_[row], index);
            take(path);
            if (row == 0) break;
            index = rows_[row].markers.parent(index);
            path = recording_.paths[path].parent;
        }
    }

private:
    struct Row {  // at the last marker that begins before `looked`
        uint32_t last;
        uint32_t countedFrom = 0;    // markers from there on have been counted…
        uint64_t countedIn = 0;      // …since this call of countAnew()
        int64_t before = INT64_MAX;  // when the marker before it begins; INT64_MAX where there is none
        int64_t begin = INT64_MAX, end = INT64_MAX, looked = INT64_MAX;
        PathId path = 0;
        bool wait = false;
        MarkerRow::Reader markers;
        void read(int64_t time);
    };
    bool counted(const Row& row, uint32_t index) const {
        return row.countedIn == counting_ && index >= row.countedFrom;
    }
    void count(Row& row, uint32_t index) const {
        row.countedIn = counting_;
        row.countedFrom = index;
    }
    /// The row, at the last marker that begins before `time`.
    Row& look(uint32_t row, int64_t time);
    void move(uint32_t row, int64_t time);

    const Recording& recording_;
    const uint32_t lane_;
    std::vector<Row> rows_;
    int64_t time_ = INT64_MIN;  // last asked for
    uint32_t open_ = 0;         // so many rows had an open marker then
    uint32_t reached_ = 1;      // so many rows were looked at since the outermost was moved far
    size_t waits_ = 0;          // so many of Lane::blocked begin before the time last asked for
    uint64_t counting_ = 1;
};

}  // namespace fugato
