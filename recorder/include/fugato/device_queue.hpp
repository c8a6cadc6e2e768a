// SPDX-License-Identifier: MIT
//
// The queue of a device as a lane: what fugato/opengl.hpp and fugato/vulkan.hpp have in common, and the ground for
// other devices. Header only.
//
// Work      is what was asked of the device at once: an outermost mark and those within it, with the device's own
//           times. It is told when it has finished, some frames later.
// Clocks    DeviceQueue keeps the device's clock beside the recorder's: sync() once a second or so.
// Links     Work names who asked for it, and is named by waits that ended with it (finishedSince()), so that the
//           critical path of a frame goes through the device.
// Threads   One at a time.
// Errors    None; what the device does not tell is left out.
#pragma once

#include <time.h>

#include <algorithm>
#include <cstdint>
#include <fugato/fugato.hpp>
#include <vector>

namespace fug {

/// CLOCK_MONOTONIC, in nanoseconds.
inline int64_t monotonicNs() noexcept {
    timespec now{};
    clock_gettime(CLOCK_MONOTONIC, &now);
    return now.tv_sec * 1'000'000'000LL + now.tv_nsec;
}

/// One instant by all clocks.
struct DeviceInstant {
    uint64_t deviceTicks = 0, hostTicks = 0;  // of the device; of fug_now()
    int64_t ns = 0;                           // CLOCK_MONOTONIC
};

/// Asks the device for its time with `read`, several times, and keeps the answer that came quickest.
template <class Read>
DeviceInstant readDeviceClock(Read&& read) {
    DeviceInstant best;
    uint64_t quickest = UINT64_MAX;
    for (int i = 0; i < 4; ++i) {
        const uint64_t before = fug_now();
        const int64_t ns = monotonicNs();
        const uint64_t ticks = read(), took = fug_now() - before;
        if (took >= quickest) continue;
        quickest = took;
        best = {ticks, before + took / 2, ns};
    }
    return best;
}

/// What was asked of a device at once: marks that begin and end, the outermost first and last.
struct DeviceWork {
    struct Stamp {
        fug_site* site;  // null: the innermost mark ends
        uint32_t query;  // of the device, where it puts the time
        uint64_t ticks;  // of the device, once it has finished
    };
    std::vector<Stamp> stamps;
    /// When its first and its last command was given, and the links that tell so.
    uint64_t firstAsked = 0, lastAsked = 0;
    int64_t firstNs = 0, lastNs = 0;

    /// To be asked for by the calling thread, now: the first command.
    void askFirst() {
        fug_link_out(firstAsked = fug_link_new());
        firstNs = monotonicNs();
    }
    /// The last command.
    void askLast() {
        fug_link_out(lastAsked = fug_link_new());
        lastNs = monotonicNs();
    }
    void clear() {
        stamps.clear();
        firstAsked = lastAsked = 0;
    }
};

class DeviceQueue {
public:
    /// `name` is the lane's and the clock's; `role` as for fug_name_thread(). `bits`: how many of its time are told.
    DeviceQueue(const char* name, const char* role, double nsPerTick, uint32_t bits = 64) noexcept
        : nsPerTick_(nsPerTick),
          bits_(bits),
          clock_(fug_clock(name, nsPerTick)),
          lane_(name, role, FUG_LANE_QUEUE, clock_) {}

    /// Whether the clocks should be told again.
    bool syncIsDue(int64_t nowNs) const noexcept { return !synced_ || nowNs - syncNs_ >= kSyncNs; }
    /// Whether they have been told: before that no work can be.
    bool isSet() const noexcept { return synced_; }
    void sync(DeviceInstant at) noexcept {
        at.deviceTicks = whole(at.deviceTicks);
        zeroNs_ = static_cast<double>(at.ns) - static_cast<double>(at.deviceTicks) * nsPerTick_;
        syncNs_ = at.ns;
        synced_ = true;
        fug_clock_sync(clock_, at.deviceTicks, at.hostTicks);
    }
    /// CLOCK_MONOTONIC at a time of the device, nearly.
    int64_t nsOf(uint64_t ticks) const noexcept {
        return static_cast<int64_t>(static_cast<double>(ticks) * nsPerTick_ + zeroNs_);
    }

    /// Work has finished: tells it. Work is told in the order in which the device did it.
    void tell(DeviceWork& work) noexcept {
        if (work.stamps.empty() || !synced_) return;
        const InLane in(lane_);
        for (size_t i = 0; i < work.stamps.size(); ++i) {
            const DeviceWork::Stamp& stamp = work.stamps[i];
            last_ = std::max(last_, whole(stamp.ticks));  // work of one queue may overlap, marks of a lane may not
            fug_at(last_);
            if (stamp.site) {
                open_.push_back(fug_begin(stamp.site));
                // Before its last command only where the device was at work already: else it began with that.
                if (i == 0) fug_link_in(nsOf(last_) < work.lastNs ? work.firstAsked : work.lastAsked);
            } else if (!open_.empty()) {
                if (open_.size() == 1) fug_link_out(finished_ = fug_link_new());
                fug_end(open_.back());
                open_.pop_back();
            }
        }
        fug_at_now();
        finishedNs_ = nsOf(last_);
    }

    /// The link of the work told last, if it ended since `ns` (CLOCK_MONOTONIC), else 0: it ended a wait that began
    /// then and is over now.
    uint64_t finishedSince(int64_t ns) const noexcept { return finishedNs_ >= ns ? finished_ : 0; }
    int64_t finishedNs() const noexcept { return finishedNs_; }

private:
    /// Of a time of which only some bits are told: the one nearest to the last.
    uint64_t whole(uint64_t ticks) noexcept {
        if (bits_ >= 64) return ticks;
        if (!synced_) return known_ = ticks;
        const uint32_t unknown = 64 - bits_;
        const auto ahead = static_cast<int64_t>((ticks - known_) << unknown) >> unknown;
        return known_ += static_cast<uint64_t>(ahead);
    }

    static constexpr int64_t kSyncNs = 1'000'000'000;
    const double nsPerTick_;
    const uint32_t bits_;
    const uint32_t clock_;
    const Lane lane_;
    std::vector<int> open_;
    uint64_t known_ = 0, last_ = 0, finished_ = 0;
    int64_t finishedNs_ = INT64_MIN, syncNs_ = 0;
    double zeroNs_ = 0;
    bool synced_ = false;
};

}  // namespace fug
