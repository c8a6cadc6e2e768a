// SPDX-License-Identifier: MIT
//
// A recording of which only the last seconds are held in memory, and saved around a moment that is worth it: a frame
// that took too long, an error, a request. It looks at what the drain packs anyway, so the program's threads pay
// nothing. Guarded by Recorder::outputMutex; saving is done on a thread of its own.
#pragma once

#include <fugato/fugato.h>
#include <pthread.h>

#include <atomic>
#include <deque>
#include <fugato_layout.hpp>
#include <fugato_moments.hpp>
#include <map>
#include <memory>
#include <string>

#include "block_sink.hpp"

namespace fugato::recording {

MomentPlan momentPlanOf(const fug_moments& moments);

class Moments {
public:
    /// Saves go to `path`, which may hold patterns; what is there is kept, and a number put into the name.
    Moments(const MomentPlan& plan, std::string path, double nsPerTick);
    ~Moments();
    Moments(const Moments&) = delete;
    Moments& operator=(const Moments&) = delete;

    const MomentPlan& plan() const { return plan_; }
    /// A frame or a point, as it is packed; in one lane in order. `deadlineNs` is that of a frame that begins.
    void see(uint32_t lane, const layout::RawEvent& event, uint64_t deadlineNs, uint64_t now);
    /// Something happened that is worth saving. Nothing comes of it where too much was saved already.
    void happened(std::string why, uint64_t now);
    /// Whether save() is to be called: enough has come after what happened, or nothing more will (`atOnce`).
    bool due(uint64_t now, bool atOnce) const;
    /// Writes what is held to a file, on a thread of its own. `definitions` describe it.
    void save(const MemorySink& held, std::string definitions, uint32_t count, uint64_t now);
    /// Waits until nothing is being written.
    void finish();

    struct Saved {
        uint32_t number = 0;  // of saves so far
        std::string path;     // of the last
        std::string because;  // why it was saved
        std::string trouble;  // why it could not be
    };
    const Saved& saved();

private:
    struct Series {
        std::deque<uint64_t> durations;  // the newest frames'
        std::deque<bool> late;
        uint32_t lateFrames = 0;
    };
    struct OpenFrame {
        uint64_t begin = 0, deadlineNs = 0;
    };
    struct Job {
        MemorySink held;
        std::string definitions;
        uint32_t count = 0;
        std::string path;
        Saved result;
        std::atomic<bool> done{false};
    };
    void frame(uint32_t series, uint64_t ns, uint64_t deadlineNs, uint64_t now);
    static void* write(void* job);

    const MomentPlan plan_;
    const std::string path_;
    const double nsPerTick_;
    std::map<uint32_t, Series> series_;
    std::map<std::pair<uint32_t, uint32_t>, OpenFrame> open_;  // by lane and series
    std::string because_;                                      // empty: nothing is to be saved
    uint64_t saveAt_ = 0, notBefore_ = 0;
    uint32_t saves_ = 0;
    Saved saved_;
    std::unique_ptr<Job> job_;  // being written
    pthread_t writer_{};
};

}  // namespace fugato::recording
