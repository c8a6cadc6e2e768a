// SPDX-License-Identifier: MIT
#include "this_thread.hpp"

#include <sys/syscall.h>
#include <unistd.h>

#include <new>

#include "drain.hpp"

namespace fugato::recording {

using namespace layout;

static_assert(sizeof(fug_slot) == sizeof(BufferSlot));
static_assert(offsetof(fug_buffer, head) == offsetof(BufferEntry, head));
static_assert(offsetof(fug_buffer, begin_limit) == offsetof(BufferEntry, beginLimit));
static_assert(offsetof(fug_buffer, end_limit) == offsetof(BufferEntry, endLimit));

fug_buffer closedBuffer{};
__thread RecordedLane* hereLane = nullptr;
__thread RecordedLane* ownLane = nullptr;
__thread fug_lane* enteredLane = nullptr;

namespace {

struct GivenName {
    std::string name, role;
    uint32_t kind = 0;
    uint32_t hostNumber = 0;
};
__thread GivenName* givenName = nullptr;  // before the thread had a lane

struct ThreadGuard {  // its destructor runs when the thread ends
    bool gone = false;
    void watch() {}
    ~ThreadGuard();
};
thread_local ThreadGuard threadGuard;

}  // namespace

void publishLimits(RecordedLane& lane) {
    fug_buffer* buffer = lane.buffer();
    buffer->begin_limit = lane.hasOwnTime() ? 0 : lane.beginLimit;
    buffer->end_limit = lane.hasOwnTime() ? 0 : lane.endLimit;
}

namespace {

/// Renews the limits from the reader's position. Returns whether `slots` fit at all.
void refresh(Recorder& r, RecordedLane& lane, uint64_t slots) {
    const BufferEntry* const entry = lane.own();
    if (!entry) return;
    const uint64_t capacity = entry->mask + 1, reserve = capacity / 8;
    for (int round = 0;; ++round) {
        const uint64_t tail = __atomic_load_n(&entry->tail, __ATOMIC_ACQUIRE);
        lane.endLimit = tail + capacity;
        lane.beginLimit = tail + capacity - reserve;
        if (round > 0 || r.background.load(std::memory_order_relaxed) || entry->head + slots <= lane.beginLimit) break;
        const SetUpCall here;
        const Lock guard(r.outputMutex);  // no background thread: empty it here
        collect(r, lane, monotonicNs());
        writePending(r, lane);
    }
}

/// Takes the buffer that the drain has found for a lane without one. Returns whether there is one now.
bool takeOffered(RecordedLane& lane) {
    if (lane.own()) return true;
    BufferEntry* const offered = lane.offered.load(std::memory_order_acquire);
    if (!offered) return false;
    const uint64_t lost = lane.lostWithoutBuffer.exchange(0, std::memory_order_relaxed);
    __atomic_fetch_add(&offered->lost, lost, __ATOMIC_RELAXED);
    lane.entry.store(offered, std::memory_order_release);
    lane.offered.store(nullptr, std::memory_order_release);
    if (&lane == hereLane) fug_this_buffer = lane.buffer();
    return true;
}

}  // namespace

void addLaneLocked(Recorder& r, RecordedLane& lane) {
    lane.id = r.nextLane.fetch_add(1);
    r.lanes.push_back(&lane);
    lane.wantsBuffer.store(true, std::memory_order_release);
    lane.entry.store(takeBuffer(r, lane.id), std::memory_order_release);
}

RecordedLane* attach(Recorder& r) {
    if (hereLane) return hereLane;
    const SetUpCall here;
    if (threadGuard.gone) return nullptr;
    threadGuard.watch();
    auto* lane = new (std::nothrow) RecordedLane;
    if (!lane) return nullptr;
    try {
        lane->osId = static_cast<uint64_t>(syscall(SYS_gettid));
        if (givenName) {
            lane->name = givenName->name;
            lane->role = givenName->role;
            lane->kind = givenName->kind;
            lane->hostNumber = givenName->hostNumber;
        }
        const Lock guard(r.lanesMutex);
        addLaneLocked(r, *lane);
        addDefinitionLocked(r, viewOf(r, *lane));
    } catch (const std::bad_alloc&) {
        delete lane;
        return nullptr;
    }
    ownLane = hereLane = lane;
    fug_this_buffer = lane->buffer();
    return lane;
}

void nameHere(std::string_view name, std::string_view role, uint32_t kind) {
    const SetUpCall here;
    const auto rename = [&](auto& named) {
        named.name = name;
        named.role = role;
        named.kind = kind;
    };
    try {
        if (hereLane || enteredLane) {
            const Lock guard(recorder().lanesMutex);
            if (hereLane) rename(*hereLane);
            if (enteredLane) rename(*enteredLane);
        } else if (!threadGuard.gone) {
            threadGuard.watch();
            if (!givenName) givenName = new GivenName;
            rename(*givenName);
        }
    } catch (const std::bad_alloc&) {
    }
}

void numberHere(uint32_t number) {
    const SetUpCall here;
    try {
        if (ownLane) {
            const Lock guard(recorder().lanesMutex);
            ownLane->hostNumber = number;
        } else if (!threadGuard.gone) {
            threadGuard.watch();
            if (!givenName) givenName = new GivenName;
            givenName->hostNumber = number;
        }
    } catch (const std::bad_alloc&) {
    }
}

void countLost(Recorder& r, RecordedLane& lane, uint64_t events) {
    if (BufferEntry* const entry = lane.own())
        __atomic_fetch_add(&entry->lost, events, __ATOMIC_RELAXED);
    else
        lane.lostWithoutBuffer.fetch_add(events, std::memory_order_relaxed);
    r.lost.fetch_add(events, std::memory_order_relaxed);
}

/// The record's first slot is written last but before the head, so that a signal handler's event in between is whole
/// or gone.
bool put(Recorder& r, RecordedLane& lane, Room room, uint8_t kind, uint32_t id, const Pair* pair,
         std::string_view text) {
    const bool isBegin = kind == static_cast<uint8_t>(Kind::MarkBegin) || kind == static_cast<uint8_t>(Kind::WaitBegin);
    if (lane.writing) {  // a signal handler within put(): its event is left out
        if (kind >= kSlotDefinition) return false;
        countLost(r, lane, isBegin ? 2 : 1);
        return false;
    }
    lane.writing = true;
    takeOffered(lane);
    lane.buffer()->begin_limit = lane.buffer()->end_limit = 0;  // a handler's markers come here as well
    std::atomic_signal_fence(std::memory_order_seq_cst);
    struct Done {
        RecordedLane& lane;
        ~Done() {
            std::atomic_signal_fence(std::memory_order_seq_cst);
            publishLimits(lane);
            lane.writing = false;
        }
    } done{lane};

    BufferEntry* const entry = lane.own();
    const uint64_t further = (pair ? 1 : 0) + (text.size() + sizeof(BufferSlot) - 1) / sizeof(BufferSlot);
    const bool tellLost = entry && __atomic_load_n(&entry->lost, __ATOMIC_RELAXED) > 0;
    const uint64_t wanted = 1 + further + (tellLost ? 2 : 0);
    const auto fits = [&] {
        return entry && entry->head + wanted <= (room == Room::Ordinary ? lane.beginLimit : lane.endLimit);
    };
    if (!fits()) refresh(r, lane, wanted);
    if (!fits()) {
        if (kind >= kSlotDefinition) return false;  // its event is counted
        countLost(r, lane, isBegin ? 2 : 1);        // the end of a begin that is lost will not come
        return false;
    }
    auto* ring = reinterpret_cast<BufferSlot*>(entry->address);
    const uint64_t mask = entry->mask;
    const uint64_t ticks = lane.hasOwnTime() ? lane.givenTime : fug_now();
    uint64_t at = entry->head;
    if (tellLost) {
        const uint64_t lost = __atomic_exchange_n(&entry->lost, 0, __ATOMIC_RELAXED);
        ring[at++ & mask] = {ticks, makeWord(Kind::Lost, 0, 1)};
        ring[at++ & mask] = {lost, 0};
    }
    uint64_t next = at + 1;
    if (pair) ring[next++ & mask] = {pair->a, pair->b};
    for (size_t from = 0; from < text.size(); from += sizeof(BufferSlot)) {
        BufferSlot piece{0, 0};
        std::memcpy(&piece, text.data() + from, std::min(sizeof piece, text.size() - from));
        ring[next++ & mask] = piece;
    }
    ring[at & mask] = {ticks, makeWord(static_cast<Kind>(kind), id, further, text.size())};
    __atomic_store_n(&entry->head, next, __ATOMIC_RELEASE);
    return true;
}

bool putHere(Kind kind, uint32_t id, Room room, const Pair* pair, std::string_view text) {
    bool written = false;
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        written = put(r, lane, room, static_cast<uint8_t>(kind), id, pair, text);
    });
    return written;
}
bool putPair(Kind kind, uint32_t id, Room room, uint64_t a, uint64_t b, std::string_view text) {
    const Pair pair{a, b};
    return putHere(kind, id, room, &pair, text);
}

bool defineInBuffer(Recorder& r, RecordedLane& lane, DefinitionType type, std::string_view fields) {
    return put(r, lane, Room::Reserved, static_cast<uint8_t>(kSlotDefinition + static_cast<uint8_t>(type)), 0, nullptr,
               fields);
}

void defineAtOnce(DefinitionType type, std::string_view fields) {
    if (inside) return;
    const SetUpCall here;
    Recorder& r = recorder();
    try {
        const Lock guard(r.lanesMutex);
        addDefinitionLocked(r, type, fields);
    } catch (const std::bad_alloc&) {
    }
}

namespace {

/// Gives a site that has none its word, once `define(fields)` has made it known; 0 where that failed.
template <class Define>
uint64_t giveWord(Recorder& r, fug_site* site, Define&& define) {
    const uint32_t id = r.nextSite.fetch_add(1, std::memory_order_relaxed);
    FieldBuilder fields;  // the address of the site, of its name, and its detail: for knowSite()
    const uint64_t numbers[3] = {reinterpret_cast<uint64_t>(site), reinterpret_cast<uint64_t>(site->name),
                                 site->detail};
    fields.raw(reinterpret_cast<const char*>(numbers), sizeof numbers);
    const std::string_view category = cutText(site->category, kMaxCategoryBytes);
    putFields(fields, SiteFields<std::string_view>{id, site->line, site->longest_ns, nameText(site->name), category,
                                                   cutText(site->description, kMaxDescriptionBytes),
                                                   cutText(site->file, kMaxFileBytes), site->detail});
    if (!define(fields.bytes())) return 0;
    const DetailSettings* details = r.details.load(std::memory_order_acquire);
    const uint64_t made = siteWord(id, static_cast<int>(site->detail), details ? details->of(category) : 2);
    uint64_t word = 0;
    if (__atomic_compare_exchange_n(&site->word, &word, made, false, __ATOMIC_RELEASE, __ATOMIC_RELAXED)) return made;
    return word;
}

}  // namespace

uint64_t wordOf(Recorder& r, RecordedLane& lane, fug_site* site) {
    const uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
    return word ? word : giveWord(r, site, [&](std::string_view fields) {
        return defineInBuffer(r, lane, DefinitionType::Site, fields);
    });
}

void declareSite(Recorder& r, fug_site* site) {
    const SetUpCall here;
    try {
        const Lock guard(r.lanesMutex);
        if (__atomic_load_n(&site->word, __ATOMIC_RELAXED)) return;
        giveWord(r, site, [&](std::string_view fields) FUGATO_NOT_CHECKED {  // at once, under this lock
            knowSite(r, fields);
            addDefinitionLocked(r, DefinitionType::Site, fields);
            return true;
        });
    } catch (const std::bad_alloc&) {
    }
}

uint32_t keyId(Recorder& r, RecordedLane& lane, fug_key* key) {
    uint64_t word = __atomic_load_n(&key->word, __ATOMIC_RELAXED);
    if (word) return static_cast<uint32_t>(word);
    const uint32_t id = r.nextKey.fetch_add(1, std::memory_order_relaxed);
    FieldBuilder fields;
    putFields(fields, KeyFields<std::string_view>{id, nameText(key->name)});
    if (!defineInBuffer(r, lane, DefinitionType::Key, fields.bytes())) return 0;
    if (__atomic_compare_exchange_n(&key->word, &word, uint64_t{id}, false, __ATOMIC_RELEASE, __ATOMIC_RELAXED))
        return id;
    return static_cast<uint32_t>(word);
}

ThreadGuard::~ThreadGuard() {
    gone = true;
    delete givenName;
    givenName = nullptr;
    RecordedLane* const lane = ownLane;
    ownLane = hereLane = nullptr;
    fug_this_buffer = &closedBuffer;
    if (!lane) return;
    Recorder& r = recorder();
    if (lane->own() && r.active.load(std::memory_order_acquire)) {
        lane->timeGiven = false;
        put(r, *lane, Room::Reserved, static_cast<uint8_t>(Kind::LaneEnd), 0);
    }
    lane->ended.store(true, std::memory_order_release);
}

std::vector<fug_lane*>& hostLanes() {
    static auto* const lanes = new std::vector<fug_lane*>;
    return *lanes;
}

void makeHostLaneLocked(Recorder& r, fug_lane& lane) {
    if (lane.of.load(std::memory_order_relaxed) == &r) return;
    auto* made = new RecordedLane;
    made->name = lane.name;
    made->role = lane.role;
    made->kind = lane.kind;
    made->clock = lane.clock;
    addLaneLocked(r, *made);
    lane.lane = made;
    lane.of.store(&r, std::memory_order_release);
}

}  // namespace fugato::recording
