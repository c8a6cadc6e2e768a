// SPDX-License-Identifier: GPL-3.0-or-later
//
// How far work is that several threads do. Each adds what it has done; whichever of them gets on tells it, one at a
// time, so that it is told, and asked whether to go on, for as long as one of them works.
#pragma once

#include <algorithm>
#include <atomic>
#include <fugato_mutex.hpp>
#include <functional>

namespace fugato {

class SharedProgress {
public:
    /// `tell`: told what part of all is done; false: to stop. May be empty. It outlives this.
    explicit SharedProgress(const std::function<bool(double)>& tell) : tell_(tell) {}

    /// Another part of all is done. Returns false where the work is to stop.
    bool add(double part) {
        done_.fetch_add(part);
        if (tell_ && mutex_.try_lock()) {
            const Lock lock(mutex_, std::adopt_lock);
            if (!stopped_ && !tell_(std::min(1.0, done_.load()))) stopped_ = true;
        }
        return !stopped_;
    }
    bool stopped() const { return stopped_; }

private:
    const std::function<bool(double)>& tell_;
    Mutex mutex_;  // held by whoever tells
    std::atomic<double> done_{0};
    std::atomic<bool> stopped_{false};
};

}  // namespace fugato
