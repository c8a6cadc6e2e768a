// SPDX-License-Identifier: GPL-3.0-or-later
#include "lane_cursor.h"

#include <algorithm>
#include <array>

namespace fugato {

namespace {
constexpr uint32_t kNotLooked = kNone - 1;  // this row has not been looked at
constexpr uint32_t kTogether = 32;          // rows
constexpr uint32_t kAhead = 24;             // markers: about a line of memory; the walk goes on that way
}  // namespace

LaneCursor::LaneCursor(const Recording& recording, uint32_t lane) : recording_(recording), lane_(lane) {
    for (const MarkerRow& row : recording.lanes[lane].rows) {
        Row at{.last = kNotLooked, .markers = MarkerRow::Reader(&row)};
        rows_.push_back(at);
    }
    waits_ = recording.lanes[lane].blocked.size();
}

/// Reads the marker at which a row is now, the last one that begins before `time`.
void LaneCursor::Row::read(int64_t time) {
    looked = time;
    if (last == kNone) {
        before = begin = end = INT64_MAX;
        return;
    }
    before = last ? markers.begin(last - 1) : INT64_MAX;
    begin = markers.begin(last);
    end = begin + markers.duration(last);
    path = markers.path(last);
    wait = markers.flags(last) & kMarkerWait;
    if (last >= kAhead) markers.expect(last - kAhead);
}

LaneCursor::Row& LaneCursor::look(uint32_t row, int64_t time) {
    Row& now = rows_[row];
    if (now.begin >= time || time > now.looked) move(row, time);
    reached_ = std::max(reached_, row + 1);
    return now;
}

/// Moves a row to the last marker that begins before `time`. Mostly that is the one before. Where it is not, the
/// walk has come to another time, and the rows below will be looked at next: they are moved with it, so that what is
/// far away in memory is fetched for all of them at once.
void LaneCursor::move(uint32_t row, int64_t time) {
    Row* rows = &rows_[row];
    if (rows->begin >= time && rows->before < time) {
        --rows->last;
        rows->read(time);
        return;
    }
    const auto most = std::min(row + kTogether, static_cast<uint32_t>(rows_.size()));
    const uint32_t count = std::clamp(reached_, row + 1, most) - row;
    if (row == 0) reached_ = 1;
    for (uint32_t i = 0; i < count; ++i)
        if (rows[i].last < kNotLooked) rows[i].markers.row().expectGroup(rows[i].last);
    std::array<uint32_t, kTogether> groups;
    for (uint32_t i = 0; i < count; ++i) {
        const MarkerRow& markers = rows[i].markers.row();
        groups[i] = rows[i].last == kNotLooked ? markers.lastBefore(time)
                                               : markers.groupBefore(time, rows[i].last == kNone ? 0 : rows[i].last);
        if (groups[i] == kNone) continue;
        groups[i] &= ~(MarkerRow::kGroup - 1);
        rows[i].markers.expectGroup(groups[i]);
    }
    for (uint32_t i = 0; i < count; ++i) {
        rows[i].last = groups[i] == kNone ? kNone : rows[i].markers.lastBefore(time, groups[i]);
        if (rows[i].last != kNone) rows[i].markers.expect(rows[i].last);
    }
    for (uint32_t i = 0; i < count; ++i) rows[i].read(time);
}

LaneCursor::Here LaneCursor::at(int64_t time) {
    // Times mostly run backwards: of the markers that were open, those that begin before are open still.
    if (time > time_) open_ = 0;
    while (open_ && rows_[open_ - 1].begin >= time) --open_;
    time_ = time;
    Here here;
    const auto inside = [&](uint32_t row) {
        here.marker = {lane_, row, rows_[row].last};
        here.path = rows_[row].path;
        here.wait = rows_[row].wait;
        here.partBegin = rows_[row].begin;
    };
    if (open_) inside(open_ - 1);
    for (uint32_t row = open_; row < rows_.size(); ++row) {
        const Row& now = look(row, time);
        if (now.last == kNone) break;
        if (now.end < time) {
            here.partBegin = std::max(here.partBegin, now.end);
            break;  // the rows below may lag behind; they catch up when they are looked at
        }
        inside(row);
        open_ = row + 1;
    }
    return here;
}

int64_t LaneCursor::waitedUntil(int64_t time) {
    const auto& waits = recording_.lanes[lane_].blocked;
    const auto before = [time](const Lane::Blocked& wait) { return wait.begin < time; };
    if (waits_ && !before(waits[waits_ - 1])) --waits_;  // mostly it is as it was, or one less
    if ((waits_ && !before(waits[waits_ - 1])) || (waits_ < waits.size() && before(waits[waits_])))
        waits_ = static_cast<size_t>(std::partition_point(waits.begin(), waits.end(), before) - waits.begin());
    return waits_ ? waits[waits_ - 1].end : INT64_MIN;
}

void LaneCursor::addUp(int64_t begin, int64_t end, MarkerSums& sums) {
    const auto of = [&](PathId path) -> MarkerSums::Sum& {
        MarkerSums::Sum& sum = sums.of[path];
        if (!sum.touched) {
            sum.touched = true;
            sums.touched.push_back(path);
        }
        return sum;
    };
    of(0).self += end - begin;
    for (uint32_t row = 0; row < rows_.size(); ++row) {
        Row& now = look(row, end);
        if (now.last == kNone || now.end <= begin) break;  // and so nothing is nested
        const uint32_t notCounted = now.countedIn == counting_ ? now.countedFrom : kNone;
        uint32_t first = now.last;
        now.last = now.markers.backwards(now.last, [&](uint32_t i, int64_t from, int64_t duration, PathId path) {
            const int64_t spent = std::min(from + duration, end) - std::max(from, begin);
            if (spent > 0) {
                MarkerSums::Sum& sum = of(path);
                sum.self += spent;
                sum.calls += i < notCounted;
                sums.of[recording_.paths[path].parent].self -= spent;  // touched in the row above
                first = i;
            }
            return from >= begin;
        });
        count(now, std::min(first, notCounted));
        now.read(begin);
    }
    // The rows now stand at `begin`.
    open_ = 0;
}

}  // namespace fugato
