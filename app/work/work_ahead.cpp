// SPDX-License-Identifier: GPL-3.0-or-later
#include "work_ahead.h"

#include <algorithm>

#include "core/store/side_by_side.h"
#include "workers.h"

namespace fugato {

namespace {

constexpr size_t kWorthAHelper = 4;  // pieces

}  // namespace

struct WorkAhead::Pieces {
    enum State : uint8_t { kFree, kBegun, kDone };
    std::function<void(size_t)> work;
    std::vector<std::atomic<uint8_t>> states;
    std::atomic<size_t> next{0};

    Pieces(size_t count, std::function<void(size_t)> of) : work(std::move(of)), states(count) {}
    void attempt(size_t piece) {
        uint8_t free = kFree;
        if (!states[piece].compare_exchange_strong(free, kBegun)) return;
        work(piece);
        states[piece].store(kDone, std::memory_order_release);
        states[piece].notify_all();
    }
    /// Does the next one that nobody has begun; false where there is none.
    bool attemptNext() {
        const size_t piece = next++;
        if (piece >= states.size()) return false;
        attempt(piece);
        return true;
    }
    void await(size_t piece) {
        for (uint8_t now; (now = states[piece].load(std::memory_order_acquire)) != kDone;)
            states[piece].wait(now, std::memory_order_acquire);
    }
};

WorkAhead::WorkAhead(size_t count, std::function<void(size_t)> work)
    : pieces_(std::make_shared<Pieces>(count, std::move(work))) {
    const size_t helpers = std::min(count / kWorthAHelper, threadsFor(count) - 1);
    for (size_t i = 0; i < helpers; ++i)
        startWork(
            [pieces = pieces_] {
                while (pieces->attemptNext()) {
                }
            },
            Urgency::Painting);
}

WorkAhead::~WorkAhead() {
    for (size_t piece = 0; piece < pieces_->states.size(); ++piece) {
        uint8_t free = Pieces::kFree;
        if (!pieces_->states[piece].compare_exchange_strong(free, Pieces::kDone)) pieces_->await(piece);
    }
}

void WorkAhead::need(size_t piece) {
    pieces_->attempt(piece);
    while (pieces_->states[piece].load(std::memory_order_acquire) != Pieces::kDone)
        if (!pieces_->attemptNext()) pieces_->await(piece);
}

}  // namespace fugato
