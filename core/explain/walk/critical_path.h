// SPDX-License-Identifier: GPL-3.0-or-later
//
// Where the time of a frame went: a walk back from the frame's end to its begin, across lanes, that
// gives every nanosecond to one owner. docs/explanation.md tells the rules. The functions only read
// the recording and may run on any thread; an CriticalPathWalker belongs to one thread.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <span>

#include "core_holder.h"
#include "lane_cursor.h"
#include "wakers.h"

namespace fugato {

/// What an owner was doing with the time.
enum class SegmentKind : uint8_t {
    Running = 0,
    WaitOther,  // the wait kinds, in the order of WaitKind: blocked, and nobody known who ended it
    WaitLock,
    WaitCondition,
    WaitJob,
    WaitGpu,
    WaitFile,
    WaitSleep,
    WaitPacing,  // idle on purpose, never a cause
    Waking,      // the wait had been ended, the thread was not yet back
    Queued,      // asked for, not yet begun
    Idle,        // another lane was reached, and it was outside any marker
    NoCore,      // ready to run, and somebody else had the core
    Blocked,     // inside a marker, yet blocked in the system, and no wait was recorded
};
inline constexpr size_t kSegmentKinds = 14;
const char* segmentName(SegmentKind kind);  // "running", "wait_lock", …: the names used in JSON
inline SegmentKind pieceOf(WaitKind kind) {
    return static_cast<SegmentKind>(static_cast<int>(SegmentKind::WaitOther) + static_cast<int>(kind));
}

struct Segment {
    int64_t begin = 0, end = 0;
    uint32_t lane = 0;
    PathId path = 0;
    SegmentKind kind = SegmentKind::Running;
    MarkerRef marker;  // the innermost marker; not valid outside any
    LockVia lock;
    CoreHolder coreHolder = kNone;  // of NoCore
    CoreHolder endedBy =
        kNone;            // of a wait, or Blocked: the other program, or kSystem, that ended it; kNone: not known
    bool likely = false;  // that the time belongs here rests on a guess who woke whom
    int64_t duration() const { return end - begin; }
};

/// What a frame's segments add up to. Told of the same more than once.
class SegmentSums {
public:
    virtual ~SegmentSums() = default;
    /// `like` tells whose time it is; its begin and end say nothing.
    virtual void time(const Segment& like, int64_t ns) = 0;
    /// So many occurrences of a marker that the walk met and had not met before.
    virtual void calls(uint32_t lane, PathId path, uint32_t count) = 0;
};

/// Walks back from one frame after another. Quickest when later frames come before earlier ones.
class CriticalPathWalker {
public:
    explicit CriticalPathWalker(const Recording& recording);
    /// The segments of [begin, end) as seen from `lane`, latest first, without gap or overlap: their
    /// durations add up to end − begin exactly. Valid until the next call.
    std::span<const Segment> account(uint32_t lane, int64_t begin, int64_t end);
    /// What these segments add up to: the same as from account(), but quicker.
    void sumUp(uint32_t lane, int64_t begin, int64_t end, SegmentSums& sums);
    using TakeHolder = std::function<void(int64_t begin, int64_t end, CoreHolder holder)>;
    /// The times at which a thread was ready to run while others had its core; one call for each holder in turn, from
    /// the last one back.
    void readyWithoutCore(uint32_t lane, int64_t begin, int64_t end, const TakeHolder& take);
    /// The same with the times at which it could have been woken, had its core been free.
    void withoutCore(uint32_t lane, int64_t begin, int64_t end, const TakeHolder& take);

private:
    LaneCursor& cursor(uint32_t lane);
    void walk(uint32_t lane, int64_t time, int64_t from, const LockVia& lock, bool owner);
    void walkWait(const LaneCursor::Here& here, int64_t time, int64_t from, const LockVia& lock);
    void put(uint32_t lane, int64_t begin, int64_t end, SegmentKind kind, const MarkerRef& marker, PathId path,
             const LockVia& lock, CoreHolder holder = kNone, CoreHolder endedBy = kNone);
    /// What time is, by what the system says that the lane did.
    struct KindsBySchedule {
        SegmentKind ran, unknown, blocked;
    };
    void putBySchedule(uint32_t lane, int64_t begin, int64_t end, const KindsBySchedule& as, const MarkerRef& marker,
                       PathId path, const LockVia& lock);
    void putPart(uint32_t lane, int64_t begin, int64_t end, const LockVia& lock);
    void putRunning(uint32_t lane, int64_t begin, int64_t end, const MarkerRef& marker, PathId path,
                    const LockVia& lock);
    void putDelay(uint32_t lane, int64_t begin, int64_t end, SegmentKind kind, const MarkerRef& marker, PathId path,
                  const LockVia& lock);
    void putNoCore(uint32_t lane, int64_t begin, int64_t end, uint32_t core, const MarkerRef& marker, PathId path);
    void withoutCore(uint32_t lane, int64_t begin, int64_t end, bool alsoBlocked, const TakeHolder& take);
    template <class Take>
    void backOverHolders(uint32_t core, int64_t begin, int64_t end, uint32_t notThread, Take&& take);

    const Recording& recording_;
    std::vector<std::unique_ptr<LaneCursor>> cursors_;  // by lane; null until it is looked at
    static constexpr uint32_t kDeepest = 256;  // lanes through which a walk comes: the call stack is not endless
    /// Going back to a lane from which the walk has come would be a circle.
    bool isClosed(uint32_t lane) const { return onWay_[lane] || depth_ >= kDeepest; }
    std::vector<bool> onWay_;  // lanes from which the walk has come
    uint32_t depth_ = 0;       // so many
    std::vector<Segment> segments_;
    SegmentSums* sums_ = nullptr;  // while segments are only added up: to there
    MarkerSums spent_;
    std::optional<CoreHolders> holders_;  // made when first asked for
    uint32_t likely_ = 0;                 // so many of the wakers through which the walk came are guessed
};

}  // namespace fugato
