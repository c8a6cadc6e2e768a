// SPDX-License-Identifier: MIT
//
// What a recorded thread does: finds its lane, writes an event into its buffer, makes sites and keys known. No locks,
// no memory and no system calls after a thread's first event, but where [set-up] stands.
#pragma once

#include <atomic>

#include "definitions.hpp"

/// A lane of the host's own.
struct fug_lane {
    std::string name, role;
    uint32_t kind = 0, clock = 0;
    // Set with Recorder::lanesMutex held, once for each recorder, `of` last; read without it by threads that enter,
    // which may do so while a recording is begun by another thread.
    fugato::recording::RecordedLane* lane = nullptr;
    std::atomic<fugato::recording::Recorder*> of{nullptr};
    // Of the thread that is in it:
    uint32_t told = 0;  // the recording that knows its name
};

namespace fugato::recording {

// What the calling thread is in. Plain pointers, so that reaching them costs nothing.
extern __thread RecordedLane* hereLane;  // null: none yet
extern __thread RecordedLane* ownLane;   // the thread's own, null: none yet
extern __thread fug_lane* enteredLane;
extern fug_buffer closedBuffer;  // every thread's buffer before its first event: limits 0

/// The limits that the inline functions see: none where each event must take the slow path.
void publishLimits(RecordedLane& lane);
/// Gives a lane its place in the recording, and a buffer.
void addLaneLocked(Recorder& r, RecordedLane& lane) FUGATO_NEEDS(r.lanesMutex);
/// The calling thread's lane, made at its first event. Null where nothing is recorded.
RecordedLane* attach(Recorder& r);
/// [set-up] The calling thread's name, or that of the lane it has entered, in this recording and in later ones.
void nameHere(std::string_view name, std::string_view role, uint32_t kind);
/// [set-up] The number of the calling thread, in the same way.
void numberHere(uint32_t number);
void countLost(Recorder& r, RecordedLane& lane, uint64_t events);

enum class Room { Ordinary, Reserved };
struct Pair {
    uint64_t a, b;
};

/// Writes one event, or counts it as lost. Returns whether it was written. `kind` is layout::Kind, or that of a
/// definition.
bool put(Recorder& r, RecordedLane& lane, Room room, uint8_t kind, uint32_t id, const Pair* pair = nullptr,
         std::string_view text = {});

/// Calls `write(recorder, lane)` where the calling thread is recorded.
template <class Write>
void onThisLane(Write&& write) {
    if (inside) return;
    Recorder* r = theRecorder.load(std::memory_order_acquire);
    if (!r || !r->active.load(std::memory_order_acquire)) {
        if (hereLane) hereLane->buffer()->begin_limit = hereLane->buffer()->end_limit = 0;
        return;
    }
    if (RecordedLane* lane = attach(*r)) write(*r, *lane);
}

/// In the calling thread's lane.
bool putHere(layout::Kind kind, uint32_t id, Room room = Room::Ordinary, const Pair* pair = nullptr,
             std::string_view text = {});
bool putPair(layout::Kind kind, uint32_t id, Room room, uint64_t a, uint64_t b = 0, std::string_view text = {});

/// Makes a definition known through a lane's buffer, so that not even a kill in the next instant loses it, and
/// without a lock. Returns false where the buffer has no room.
bool defineInBuffer(Recorder& r, RecordedLane& lane, layout::DefinitionType type, std::string_view fields);
/// [set-up] Under the lock.
void defineAtOnce(layout::DefinitionType type, std::string_view fields);

/// [set-up] In the calling thread's buffer, or, where it has none or that is full, under the lock.
template <class Definition>
void define(const Definition& definition) {
    FieldBuilder fields;
    layout::putFields(fields, definition);
    bool written = false;
    if (hereLane)
        onThisLane([&](Recorder& r, RecordedLane& lane) {
            written = defineInBuffer(r, lane, Definition::kType, fields.bytes());
        });
    if (!written) defineAtOnce(Definition::kType, fields.bytes());
}

/// Makes a definition known that others' events may depend on, without a lock; but without a background thread, which
/// writes buffers only when they are full, under it. Returns false where there is no room.
template <class Definition>
bool defineSoon(Recorder& r, RecordedLane& lane, const Definition& definition) {
    FieldBuilder fields;
    layout::putFields(fields, definition);
    if (r.background.load(std::memory_order_relaxed)) return defineInBuffer(r, lane, Definition::kType, fields.bytes());
    defineAtOnce(Definition::kType, fields.bytes());
    return true;
}

/// Gives the definition the next id of its kind, and makes it known.
template <class Definition>
uint32_t defineNext(std::atomic<uint32_t> Recorder::*next, Definition definition) {
    definition.id = (recorder().*next).fetch_add(1, std::memory_order_relaxed);
    define(definition);
    return definition.id;
}

/// A site's word; at its first use it is made known in the lane's buffer, or, where that has no room now, it is 0
/// and the event cannot be told. Two threads may both make it known; the first id stays.
uint64_t wordOf(Recorder& r, RecordedLane& lane, fug_site* site);
/// [set-up] The same without an event, and where the calling thread is not recorded.
void declareSite(Recorder& r, fug_site* site);
/// As of a site's word.
uint32_t keyId(Recorder& r, RecordedLane& lane, fug_key* key);

/// Calls `write(recorder, lane, site's id)` where the site is recorded; counts `events` as lost where it cannot be
/// made known.
template <class Write>
void onThisLaneAt(fug_site* site, uint64_t events, Write&& write) {
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        const uint64_t word = wordOf(r, lane, site);
        if (!word)
            countLost(r, lane, events);
        else if (!(word & FUG_WORD_LEFT_OUT))
            write(r, lane, siteId(word));
    });
}

/// All lanes of the host's own, in every recording of the process and of its children. Guarded by lanesMutex.
std::vector<fug_lane*>& hostLanes();
/// Gives a host's lane its place in the recording, so that entering it takes no lock. Its name is told when it is
/// first entered.
void makeHostLaneLocked(Recorder& r, fug_lane& lane) FUGATO_NEEDS(r.lanesMutex);

}  // namespace fugato::recording
