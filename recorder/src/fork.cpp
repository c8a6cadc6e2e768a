// SPDX-License-Identifier: MIT
//
// Fork: the child starts afresh.
#include <pthread.h>

#include <new>
#include <utility>

#include "control.hpp"
#include "drain.hpp"
#include "launched.hpp"
#include "moments.hpp"
#include "os_activity.hpp"
#include "this_thread.hpp"

namespace fugato::recording {

std::atomic<Recorder*> theRecorder{nullptr};

namespace {

/// The next child's. Made before the fork: in a child nothing is allocated, as whoever allocates in place of
/// the C library (a sanitizer, say) may have been forked while another thread held its lock.
Recorder* childs = nullptr;

// What is locked before a fork is unlocked after it.
void beforeFork() FUGATO_NOT_CHECKED {
    inside = true;  // until after: a handler in between tells nothing and stops nothing
    lockControl();
    lockLaunched();
    Recorder& r = recorder();
    r.outputMutex.lock();
    try {  // what is defined in the buffers must hold in the child too
        if (r.active.load()) drain(r, false);
    } catch (const std::bad_alloc&) {
    }
    r.lanesMutex.lock();
    if (!childs) childs = new (std::nothrow) Recorder;
}
void afterForkInParent() FUGATO_NOT_CHECKED {
    Recorder& r = recorder();
    r.lanesMutex.unlock();
    r.outputMutex.unlock();
    unlockLaunched(false);
    unlockControl(false);
    inside = false;
}
/// The parent's buffers and file are left alone; what was defined so far holds in the child as well.
void afterForkInChild() FUGATO_NOT_CHECKED {
    unlockLaunched(true);
    unlockControl(true);
    Recorder& parents = recorder();
    // Whoever looks for the parent's locks must not find the child's copies of its descriptors.
    parents.output.leaveFile();
    parents.pool.leaveFiles();
    if (parents.os) parents.os->leaveFiles();
    Recorder* const r = std::exchange(childs, nullptr);
    if (!r) {  // no memory: this child does not record
        parents.active.store(false);
        fug_this_buffer = &closedBuffer;
        return;  // `inside` stays true: nothing of the parent's is touched
    }
    r->lasting = std::move(parents.lasting);
    r->deadlines = std::move(parents.deadlines);
    r->sites = std::move(parents.sites);
    for (auto next :
         {&Recorder::nextLane, &Recorder::nextSite, &Recorder::nextSeries, &Recorder::nextObject,
          &Recorder::nextCounter, &Recorder::nextState, &Recorder::nextKey, &Recorder::nextPool, &Recorder::nextClock})
        (r->*next).store((parents.*next).load());
    r->details.store(parents.details.load());
    r->recordingNumber.store(parents.recordingNumber.load());
    theRecorder.store(r, std::memory_order_release);
    ownLane = hereLane = nullptr;
    fug_this_buffer = &closedBuffer;
    inside = false;
}

}  // namespace

Recorder& recorder() {
    Recorder* r = theRecorder.load(std::memory_order_acquire);
    if (r) return *r;
    static Recorder* const first = [] {
        auto* made = new Recorder;  // never destroyed: threads may outlive static destruction
        pthread_atfork(beforeFork, afterForkInParent, afterForkInChild);
        theRecorder.store(made, std::memory_order_release);
        return made;
    }();
    return *first;
}

}  // namespace fugato::recording
