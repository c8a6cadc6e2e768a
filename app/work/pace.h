// SPDX-License-Identifier: GPL-3.0-or-later
//
// How often work is done again that a growing recording asks for, and that takes the longer the more there is of it:
// so that it fills a small part of the time; more where it would come too seldom, but never more than half. Of one
// thread.
#pragma once

#include <QElapsedTimer>
#include <algorithm>

namespace fugato {

class Pace {
public:
    /// `oftenMs`: from one time to the next at least. `part`: one part in so many of the time.
    Pace(qint64 oftenMs, qint64 part) : often_(oftenMs), part_(part) {}
    void begun() { clock_.start(); }
    void done() {
        before_ = last_;
        last_ = clock_.isValid() ? clock_.elapsed() : 0;
    }
    void restart() {
        clock_.invalidate();
        before_ = last_ = 0;
    }
    /// ms from when it was begun last until it is to be begun again.
    qint64 every() const {
        constexpr qint64 kMostPart = 2, kSeldomMs = 10'000;
        const qint64 took = (before_ + last_) / 2;  // one that took long although others do not counts less so
        return std::clamp(part_ * took, often_, std::max({often_, kSeldomMs, kMostPart * took}));
    }
    bool due() const { return !clock_.isValid() || clock_.elapsed() >= every(); }
    /// ms since it was begun last, or -1.
    qint64 since() const { return clock_.isValid() ? clock_.elapsed() : -1; }

private:
    const qint64 often_, part_;
    qint64 before_ = 0, last_ = 0;  // how long the last two took
    QElapsedTimer clock_;
};

}  // namespace fugato
