// SPDX-License-Identifier: GPL-3.0-or-later
#include "accounting.h"

#include <algorithm>

namespace fugato {

const char* pieceName(PieceKind kind) {
    static const char* const names[] = {"running",     "wait_other", "wait_lock", "wait_condition",
                                        "wait_job",    "wait_gpu",   "wait_file", "wait_sleep",
                                        "wait_pacing", "waking",     "queued",    "idle"};
    return names[static_cast<size_t>(kind)];
}

namespace {
constexpr uint32_t kNotLooked = kNone - 1;  // in a Cursor: this row has not been looked at
}  // namespace

Accountant::Accountant(const Recording& recording)
    : recording_(recording), cursors_(recording.lanes.size()), onWay_(recording.lanes.size()) {}

/// Moves a row's cursor to the last marker that begins before `time`.
void Accountant::move(const MarkerRow& markers, Cursor::Row& row, int64_t time) {
    const uint32_t near = row.last;
    if (near == kNotLooked)
        row.last = markers.lastBefore(time);
    else if (near != kNone && near > 0 && row.begin >= time && markers.begin(near - 1) < time)
        row.last = near - 1;  // mostly
    else
        row.last = markers.lastBefore(time, near == kNone ? 0 : near);
    row.looked = time;
    row.begin = row.last == kNone ? INT64_MAX : markers.begin(row.last);
    if (row.last == kNone) {
        row.end = INT64_MAX;
        return;
    }
    row.end = row.begin + markers.duration(row.last);
    row.path = markers.path(row.last);
    row.wait = markers.flags(row.last) & kMarkerWait;
}

Accountant::Here Accountant::at(uint32_t lane, int64_t time) {
    const auto& rows = recording_.lanes[lane].rows;
    Cursor& cursor = cursors_[lane];
    if (cursor.rows.empty()) cursor.rows.assign(rows.size(), {kNotLooked, INT64_MAX, INT64_MAX, INT64_MAX, 0, false});
    // Times mostly run backwards: of the markers that were open, those that begin before are open still.
    if (time > cursor.time) cursor.open = 0;
    while (cursor.open && cursor.rows[cursor.open - 1].begin >= time) --cursor.open;
    cursor.time = time;
    Here here;
    const auto inside = [&](uint32_t row) {
        here.marker = {lane, row, cursor.rows[row].last};
        here.path = cursor.rows[row].path;
        here.wait = cursor.rows[row].wait;
        here.stretchBegin = cursor.rows[row].begin;
        here.anything = true;
    };
    if (cursor.open) inside(cursor.open - 1);
    for (uint32_t row = cursor.open; row < rows.size(); ++row) {
        Cursor::Row& now = cursor.rows[row];
        if (now.begin >= time || time > now.looked) move(rows[row], now, time);
        if (now.last == kNone) break;
        here.anything = true;
        if (now.end < time) {
            here.stretchBegin = std::max(here.stretchBegin, now.end);
            break;  // the rows below may lag behind; they catch up when they are looked at
        }
        inside(row);
        cursor.open = row + 1;
    }
    return here;
}

void Accountant::put(uint32_t lane, int64_t begin, int64_t end, PieceKind kind, const MarkerRef& marker, PathId path,
                     const LockVia& lock) {
    if (begin >= end) return;
    pieces_.push_back({begin, end, lane, path, kind, marker, lock});
}

void Accountant::walk(uint32_t lane, int64_t time, int64_t from, const LockVia& lock, bool owner) {
    const Lane& here = recording_.lanes[lane];
    onWay_[lane] = true;
    while (time > from) {
        const Here now = at(lane, time);
        const int64_t begin = std::max(from, now.stretchBegin);
        if (!now.marker.valid()) {
            if (!owner) {
                // The work just accounted begins here: who asked for it?
                const auto in = std::lower_bound(here.linkIns.begin(), here.linkIns.end(), time,
                                                 [](const LinkEnd& l, int64_t t) { return l.time < t; });
                const Here next = at(lane, time + 1);
                if (in != here.linkIns.end() && next.marker.valid() && in->time <= cursors_[lane].rows[0].end) {
                    const auto source = recording_.linkSource(in->link);
                    if (source && source->time <= time && !onWay_[source->lane]) {
                        const int64_t asked = std::max(from, source->time);
                        put(lane, asked, time, PieceKind::Queued, next.marker, next.path, lock);
                        walk(source->lane, asked, from, lock, false);
                        break;
                    }
                }
                put(lane, begin, time, PieceKind::Idle, {}, 0, lock);
            } else {
                put(lane, begin, time, PieceKind::Running, {}, 0, lock);
            }
            time = begin;
            continue;
        }
        if (now.wait) {
            walkWait(now, time, begin, lock);
        } else {
            put(lane, begin, time, PieceKind::Running, now.marker, now.path, lock);
        }
        time = begin;
    }
    onWay_[lane] = false;
}

void Accountant::walkWait(const Here& here, int64_t time, int64_t from, const LockVia& lock) {
    const MarkerRef& marker = here.marker;
    const Lane& lane = recording_.lanes[marker.lane];
    const Wait* wait = lane.waitOf(marker);
    const WaitKind kind = wait ? wait->kind : WaitKind::Other;
    uint32_t enderLane = kNone;
    int64_t ended = 0;
    LockVia via = lock;
    if (wait && kind != WaitKind::Pacing) {
        if (wait->link) {
            const auto source = recording_.linkSource(wait->link);
            if (source && source->time <= wait->end) {
                enderLane = source->lane;
                ended = source->time;
            }
        } else if (wait->object != kNone) {
            // Whoever gave the lock back last before the wait was over.
            const auto& holds = recording_.holds[wait->object];
            auto after = std::upper_bound(holds.begin(), holds.end(), wait->end,
                                          [](int64_t t, const Hold& h) { return t < h.end; });
            while (after != holds.begin() && after[-1].end > wait->begin && after[-1].lane == marker.lane) --after;
            if (after != holds.begin() && after[-1].end > wait->begin) {
                const Hold& hold = after[-1];
                enderLane = hold.lane;
                ended = hold.end;
                via = {wait->object, hold.path, marker.lane};
            }
        }
    }
    if (enderLane == kNone || enderLane == marker.lane || onWay_[enderLane]) {
        put(marker.lane, from, time, pieceOf(kind), marker, here.path, lock);
        return;
    }
    ended = std::min(ended, time);  // reached while still blocked: the ender was already at work
    if (ended <= from) {
        put(marker.lane, from, time, PieceKind::Waking, marker, here.path, lock);
        return;
    }
    put(marker.lane, ended, time, PieceKind::Waking, marker, here.path, lock);
    walk(enderLane, ended, from, via, false);
}

std::span<const Piece> Accountant::account(uint32_t lane, int64_t begin, int64_t end) {
    pieces_.clear();
    std::fill(onWay_.begin(), onWay_.end(), false);
    walk(lane, end, begin, {}, true);
    return pieces_;
}

}  // namespace fugato
