// SPDX-License-Identifier: MIT
//
// The recorder's functions and its drain. recorder_state.hpp tells which lock guards what.
#include <dlfcn.h>
#include <link.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <new>

#include "os_activity.hpp"
#include "own_files.hpp"
#include "recorder_state.hpp"
#include "run_context.hpp"
#include "unclosed_recording.hpp"
#if FUG_HAS_TSC
#include <cpuid.h>
#endif

/// A lane of the host's own.
struct fug_lane {
    std::string name, role;
    uint32_t kind = 0, clock = 0;
    // Guarded by Recorder::lanesMutex, and the same all through a recording:
    fugato::RecordedLane* lane = nullptr;
    fugato::Recorder* of = nullptr;
    // Of the thread that is in it:
    uint32_t told = 0;  // the recording that knows its name
};

namespace fugato {

using namespace layout;

static_assert(sizeof(fug_slot) == sizeof(BufferSlot));
static_assert(offsetof(fug_buffer, head) == offsetof(BufferEntry, head));
static_assert(offsetof(fug_buffer, begin_limit) == offsetof(BufferEntry, beginLimit));
static_assert(offsetof(fug_buffer, end_limit) == offsetof(BufferEntry, endLimit));

uint64_t monotonicNs() {
    timespec time{};
    clock_gettime(CLOCK_MONOTONIC, &time);
    return static_cast<uint64_t>(time.tv_sec) * 1'000'000'000u + static_cast<uint64_t>(time.tv_nsec);
}

std::string_view cutText(const char* text, size_t most) {
    if (!text) return {};
    const size_t size = strnlen(text, most + 1);
    if (size <= most) return {text, size};
    size_t keep = most;
    while (keep > 0 && (static_cast<unsigned char>(text[keep]) & 0xc0) == 0x80) --keep;  // whole characters
    return {text, keep};
}

namespace {

/// Of an enumeration of the interface, whatever number the caller has put there.
template <class Enumeration>
uint32_t numberOf(const Enumeration& value) {
    static_assert(sizeof value == sizeof(uint32_t));
    uint32_t number = 0;
    std::memcpy(&number, &value, sizeof number);
    return number;
}

constexpr uint32_t kDefaultBufferEvents = 1u << 16;
constexpr uint64_t kDefaultMemoryBytes = 256u << 20;
constexpr uint64_t kDrainPauseNs = 4'000'000, kShortPauseNs = 500'000;  // rest between two looks at the buffers
constexpr uint64_t kWriteAfterNs = 35'000'000;  // an event waits this long at most for its block
constexpr uint64_t kClockEveryNs = 250'000'000;
constexpr uint64_t kOfferEveryNs = 50'000'000;  // looking whether there is room for lanes without a buffer
constexpr int kSweeperNice = 19;
constexpr size_t kMaxTextBytes = 3200;
constexpr size_t kMaxNameBytes = 1000;

std::string_view nameText(const char* name) { return cutText(name, kMaxNameBytes); }
constexpr uint32_t kMostPictureWidth = 160, kMostPictureHeight = 100;
constexpr size_t kPicturePieceBytes = 4000;

fug_buffer closedBuffer{};  // every thread's buffer before its first event: limits 0

// What the calling thread is in. Plain pointers, so that reaching them costs nothing.
thread_local RecordedLane* hereLane = nullptr;  // null: none yet
thread_local RecordedLane* ownLane = nullptr;   // the thread's own, null: none yet
thread_local fug_lane* enteredLane = nullptr;

struct ThreadGuard {  // its destructor runs when the thread ends
    bool gone = false;
    void watch() {}
    ~ThreadGuard();
};
thread_local ThreadGuard threadGuard;

bool tscIsInvariant() {
#if FUG_HAS_TSC
    unsigned a = 0, b = 0, c = 0, d = 0;
    if (!__get_cpuid(0x80000000u, &a, &b, &c, &d) || a < 0x80000007u) return false;
    __get_cpuid(0x80000007u, &a, &b, &c, &d);
    return (d & (1u << 8)) != 0;
#else
    return false;
#endif
}

std::atomic<Recorder*> theRecorder{nullptr};

void beforeFork();
void afterForkInParent();
void afterForkInChild();

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

// ---- definitions ---------------------------------------------------------------------------------

/// The fields of a definition, built without allocating; what does not fit is left out.
class FieldBuilder {
public:
    void number(uint64_t value) {
        if (size_ + 10 <= sizeof bytes_) size_ = static_cast<size_t>(putVarint(bytes_ + size_, value) - bytes_);
    }
    void text(std::string_view text) {
        const std::string_view kept = text.substr(0, sizeof bytes_ - size_ - 10);
        number(kept.size());
        raw(kept.data(), kept.size());
    }
    void raw(const void* from, size_t count) {
        if (!count) return;
        std::memcpy(bytes_ + size_, from, count);
        size_ += count;
    }
    std::string_view bytes() const { return {bytes_, size_}; }

private:
    char bytes_[kMostSlotText];
    size_t size_ = 0;
};

bool ofOneRecording(DefinitionType type) {
    return type == DefinitionType::Lane || type == DefinitionType::ClockSync || type == DefinitionType::OsThread ||
           type == DefinitionType::Module;
}

/// With lanesMutex held.
void addDefinitionLocked(Recorder& r, DefinitionType type, std::string_view fields) {
    (ofOneRecording(type) ? r.ofRecording : r.lasting).add(type, fields);
    r.unwritten.add(type, fields);
}

template <class Definition>
void addDefinitionLocked(Recorder& r, const Definition& definition) {
    addDefinitionLocked(r, Definition::kType, fieldsOf(definition));
}

using LaneView = LaneFields<std::string_view>;

LaneView viewOf(const Recorder& r, const RecordedLane& lane) {
    return {lane.id,   static_cast<LaneKind>(lane.kind), r.hostNow.load() ? 0 : lane.osId, lane.name, lane.role,
            lane.clock};
}

uint64_t siteWord(uint32_t id, int detail, int level) {
    return makeWord(Kind::MarkBegin, id) | (detail > level ? FUG_WORD_LEFT_OUT : 0);
}

/// A site's definition has come through a buffer: remembers the site, for fug_detail().
void knowSite(Recorder& r, std::string_view& fields) {
    fug_site* site = nullptr;
    std::memcpy(&site, fields.data(), sizeof site);
    uint64_t numbers[2];  // the name's address and the detail
    std::memcpy(numbers, fields.data() + 8, sizeof numbers);
    fields.remove_prefix(24);
    const auto told = getFields<SiteFields<std::string_view>>(FieldReader(fields));
    r.sites[site] = {makeWord(Kind::MarkBegin, told.id), reinterpret_cast<const char*>(numbers[0]),
                     std::string(told.category), static_cast<uint32_t>(numbers[1])};
}

// ---- the drain -----------------------------------------------------------------------------------

void writeDefinitions(Recorder& r) {
    DefinitionRecords batch;
    {
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        std::swap(batch, r.unwritten);
    }
    if (batch.count) r.output.writeBlock(BlockType::Definitions, 0, batch.count, 0, 0, batch.records);
}

/// Writes what was collected of a lane; from then on its slots are free for the thread.
void writePending(Recorder& r, RecordedLane& lane) {
    writeDefinitions(r);
    if (lane.pendingCount)
        r.output.writeBlock(BlockType::Events, lane.id, lane.pendingCount, lane.pendingFirst, lane.pendingLast,
                            {lane.pending.get(), lane.pendingBytes}, static_cast<uint32_t>(lane.collected));
    lane.pendingCount = 0;
    lane.pendingBytes = 0;
    if (BufferEntry* const entry = lane.own()) __atomic_store_n(&entry->tail, lane.collected, __ATOMIC_RELEASE);
}

/// Takes a definition out of a buffer.
void takeDefinition(Recorder& r, uint8_t kind, std::string_view fields) {
    const auto type = static_cast<DefinitionType>(kind - kSlotDefinition);
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    if (type == DefinitionType::Site) knowSite(r, fields);
    addDefinitionLocked(r, type, fields);
}

/// Packs what the thread has published since the last look. Returns the number of slots taken.
uint64_t collect(Recorder& r, RecordedLane& lane, uint64_t now) {
    const BufferEntry* const entry = lane.own();
    if (!entry) return 0;
    const auto* ring = reinterpret_cast<const BufferSlot*>(entry->address);
    const uint64_t mask = entry->mask;
    const uint64_t head = __atomic_load_n(&entry->head, __ATOMIC_ACQUIRE);
    const uint64_t from = lane.collected;
    if (static_cast<int64_t>(head - from) <= 0) return 0;
    char text[kMostSlotText + 32];
    while (lane.collected < head) {
        const BufferSlot& slot = ring[lane.collected & mask];
        // Markers, by far the most frequent, take a short way.
        const auto low = static_cast<uint32_t>(slot.word);
        if ((low == static_cast<uint32_t>(Kind::MarkBegin) || low == FUG_WORD_END) && lane.pendingCount) {
            char* out = lane.pending.get() + lane.pendingBytes;
            out = putVarint(out, slot.word >> 32 << 5 | low);
            out = putVarint(out, zigzag(static_cast<int64_t>(slot.ticks - lane.pendingLast)));
            lane.pendingLast = slot.ticks;
            lane.pendingBytes = static_cast<size_t>(out - lane.pending.get());
            ++lane.pendingCount;
            ++lane.collected;
        } else {
            RawEvent event;
            uint8_t kind = 0;
            const uint64_t used = readSlots(ring, mask, lane.collected, head, text, kind, event);
            lane.collected += used ? used : 1;
            if (!used) continue;
            if (kind >= kSlotDefinition)
                takeDefinition(r, kind, event.text);
            else
                addEvent(r, lane, event, now);
        }
        if (lane.pendingBytes >= kWriteAfterBytes) writePending(r, lane);
    }
    return head - from;
}

/// Tells the events lost at the end of a lane, after which nothing came.
void addLost(Recorder& r, RecordedLane& lane, uint64_t now) {
    uint64_t lost = lane.lostWithoutBuffer.exchange(0, std::memory_order_relaxed);
    if (BufferEntry* const entry = lane.own()) lost += __atomic_exchange_n(&entry->lost, 0, __ATOMIC_RELAXED);
    if (!lost) return;
    const uint64_t ticks = lane.pendingCount || lane.pendingLast ? lane.pendingLast : fug_now();
    addEvent(r, lane, {ticks, Kind::Lost, 0, lost, 0, {}}, now);
}

/// Both clocks at one instant: where another program took the core in between, they are read again.
ClockPair readClocks() {
    constexpr uint64_t kNarrow = 500;  // ns
    ClockPair best{};
    uint64_t least = ~uint64_t{0};
    for (int i = 0; i < 20 && least > kNarrow; ++i) {
        const uint64_t before = monotonicNs(), ticks = fug_now(), width = monotonicNs() - before;
        if (width >= least) continue;
        least = width;
        best = {ticks, before + width / 2};
    }
    return best;
}

void writeClock(Recorder& r) {
    ClockPair pair = readClocks();
    r.lastClockNs = pair.ns;
    r.output.look();
    if (!__atomic_load_n(&fug_uses_tsc, __ATOMIC_RELAXED)) return;
    pair.ns -= r.originNs;
    r.output.writeBlock(BlockType::Clock, 0, 1, pair.ticks, pair.ticks,
                        {reinterpret_cast<const char*>(&pair), sizeof pair});
}

/// With lanesMutex held.
void setStatus(Recorder& r, const std::string& text) { r.status = r.statuses.insert(text).first->c_str(); }

/// A buffer for a lane, which may lie elsewhere or be smaller than wished, or be null; then the reason is told.
/// With lanesMutex held.
BufferEntry* takeBuffer(Recorder& r, uint32_t lane) {
    BufferEntry* const entry = r.pool.take(lane, r.bufferSlots);
    std::string told;
    if (!r.pool.trouble().empty())
        told = r.pool.trouble() + (entry ? "; some lie elsewhere" : "; some lanes have none");
    else if (!entry)
        told = "some lanes have no buffer: the memory set for the recording is used up";
    if (told.empty() || told == r.toldTrouble) return entry;
    r.toldTrouble = told;
    setStatus(r, told);
    addDefinitionLocked(r, ContextFields<std::string_view>{"room for buffers", told});
    return entry;
}

/// Lanes that could not have a buffer before get one as soon as there is room.
void offerBuffers(Recorder& r, uint64_t now) {
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    if (now - r.lastOfferNs < kOfferEveryNs) return;
    r.lastOfferNs = now;
    for (RecordedLane* lane : r.lanes)
        if (lane->wantsBuffer.load(std::memory_order_acquire) && !lane->own() &&
            !lane->offered.load(std::memory_order_acquire)) {
            BufferEntry* const entry = takeBuffer(r, lane->id);
            if (!entry) return;
            lane->offered.store(entry, std::memory_order_release);
        }
}

/// One look at every lane, with outputMutex held. Returns how long the buffers can do without another.
uint64_t drain(Recorder& r, bool all) {
    uint64_t pause = kDrainPauseNs;
    const uint64_t now = monotonicNs();
    if (now - r.lastClockNs >= kClockEveryNs || all) writeClock(r);
    if (r.os) r.os->poll(r, now, all);
    struct Looked {
        RecordedLane* lane;
        bool ended;
        uint64_t taken;
    };
    std::vector<Looked> lanes;
    {
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        for (RecordedLane* lane : r.lanes) lanes.push_back({lane, lane->ended.load(std::memory_order_acquire), 0});
    }
    // All are collected before any is written: other lanes' events may depend on what one defines.
    for (Looked& looked : lanes) looked.taken = collect(r, *looked.lane, now);
    for (const auto& [lane, ended, taken] : lanes) {
        const BufferEntry* const entry = lane->own();
        const uint64_t capacity = entry ? entry->mask + 1 : 1;
        pause = std::min(pause, taken > capacity / 8 ? 0 : taken > capacity / 64 ? kShortPauseNs : kDrainPauseNs);
        if (all || ended) addLost(r, *lane, now);
        const bool waiting = entry && lane->collected != entry->tail;
        if (all || ended || now - lane->pendingSince >= kWriteAfterNs ||
            (waiting && lane->collected - entry->tail >= capacity / 4))
            if (lane->pendingCount || waiting) writePending(r, *lane);
        if (!ended) continue;
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        for (BufferEntry* mine : {lane->own(), lane->offered.load(std::memory_order_acquire)})
            if (mine) r.pool.giveBack(mine);
        for (size_t i = 0; i < r.lanes.size(); ++i)
            if (r.lanes[i] == lane) {
                r.lanes[i] = r.lanes.back();
                r.lanes.pop_back();
                break;
            }
        delete lane;
    }
    offerBuffers(r, now);
    writeDefinitions(r);
    const auto state = r.output.state();
    if (!r.toldFailure && !r.output.reason().empty()) {
        r.toldFailure = true;
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        setStatus(r, r.output.reason());
    }
    if (state == RecordingOutput::State::Failed) r.active.store(false, std::memory_order_release);
    return pause;
}

void* backgroundThread(void*) {
    inside = true;
    pthread_setname_np(pthread_self(), "fugato");
    Recorder& r = recorder();
    while (!r.quit.load(std::memory_order_acquire)) {
        uint64_t pauseNs = kDrainPauseNs;
        try {
            const std::lock_guard<std::mutex> guard(r.outputMutex);
            if (r.active.load(std::memory_order_relaxed)) pauseNs = drain(r, false);
        } catch (const std::bad_alloc&) {  // tried again at the next look
        }
        if (!pauseNs) continue;
        const timespec pause{0, static_cast<long>(pauseNs)};
        nanosleep(&pause, nullptr);
    }
    return nullptr;
}

/// Looks once for what programs left that were killed. It has time.
void* sweepingThread(void*) {
    inside = true;
    pthread_setname_np(pthread_self(), "fugato sweep");
    setpriority(PRIO_PROCESS, static_cast<id_t>(syscall(SYS_gettid)), kSweeperNice);
    Recorder& r = recorder();
    try {
        for (const std::string& folder : r.sweptFolders)
            clearLeftBuffers(folder, [&] { return !r.quit.load(std::memory_order_acquire); });
    } catch (const std::bad_alloc&) {  // the next start looks again
    }
    return nullptr;
}

/// A thread on which no signal of the program's ever arrives; false where there can be none.
bool startThread(pthread_t& thread, void* (*run)(void*)) {
    sigset_t all, before;
    sigfillset(&all);
    pthread_sigmask(SIG_SETMASK, &all, &before);
    const bool started = pthread_create(&thread, nullptr, run, nullptr) == 0;
    pthread_sigmask(SIG_SETMASK, &before, nullptr);
    if (!started) thread = {};
    return started;
}

// ---- the recorded thread -------------------------------------------------------------------------

/// The limits that the inline functions see: none where each event must take the slow path.
void publishLimits(RecordedLane& lane) {
    fug_buffer* buffer = lane.buffer();
    buffer->begin_limit = lane.hasOwnTime() ? 0 : lane.beginLimit;
    buffer->end_limit = lane.hasOwnTime() ? 0 : lane.endLimit;
}

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
        const std::lock_guard<std::mutex> guard(r.outputMutex);  // no background thread: empty it here
        collect(r, lane, monotonicNs());
        writePending(r, lane);
    }
}

/// Gives a lane its place in the recording, and a buffer. With lanesMutex held.
void addLaneLocked(Recorder& r, RecordedLane& lane) {
    lane.id = r.nextLane.fetch_add(1);
    r.lanes.push_back(&lane);
    lane.wantsBuffer.store(true, std::memory_order_release);
    lane.entry.store(takeBuffer(r, lane.id), std::memory_order_release);
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

/// The calling thread's lane, made at its first event. Null where nothing is recorded.
RecordedLane* attach(Recorder& r) {
    if (hereLane) return hereLane;
    const SetUpCall here;
    if (threadGuard.gone) return nullptr;
    threadGuard.watch();
    auto* lane = new (std::nothrow) RecordedLane;
    if (!lane) return nullptr;
    try {
        lane->osId = static_cast<uint64_t>(syscall(SYS_gettid));
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
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

enum class Room { Ordinary, Reserved };

void countLost(Recorder& r, RecordedLane& lane, uint64_t events) {
    if (BufferEntry* const entry = lane.own())
        __atomic_fetch_add(&entry->lost, events, __ATOMIC_RELAXED);
    else
        lane.lostWithoutBuffer.fetch_add(events, std::memory_order_relaxed);
    r.lost.fetch_add(events, std::memory_order_relaxed);
}

struct Pair {
    uint64_t a, b;
};

/// Writes one event, or counts it as lost. Returns whether it was written. The record's first slot
/// is written last but before the head, so that a signal handler's event in between is whole or gone.
bool put(Recorder& r, RecordedLane& lane, Room room, uint8_t kind, uint32_t id, const Pair* pair = nullptr,
         std::string_view text = {}) {
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

bool putHere(Kind kind, uint32_t id, Room room = Room::Ordinary, const Pair* pair = nullptr,
             std::string_view text = {}) {
    bool written = false;
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        written = put(r, lane, room, static_cast<uint8_t>(kind), id, pair, text);
    });
    return written;
}
bool putPair(Kind kind, uint32_t id, Room room, uint64_t a, uint64_t b = 0, std::string_view text = {}) {
    const Pair pair{a, b};
    return putHere(kind, id, room, &pair, text);
}

/// Makes a definition known through a lane's buffer, so that not even a kill in the next instant loses it, and
/// without a lock. Returns false where the buffer has no room.
bool defineInBuffer(Recorder& r, RecordedLane& lane, DefinitionType type, std::string_view fields) {
    return put(r, lane, Room::Reserved, static_cast<uint8_t>(kSlotDefinition + static_cast<uint8_t>(type)), 0, nullptr,
               fields);
}

/// [set-up] Under the lock.
void defineAtOnce(DefinitionType type, std::string_view fields) {
    if (inside) return;
    const SetUpCall here;
    Recorder& r = recorder();
    try {
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        addDefinitionLocked(r, type, fields);
    } catch (const std::bad_alloc&) {
    }
}

/// [set-up] In the calling thread's buffer, or, where it has none or that is full, under the lock.
template <class Definition>
void define(const Definition& definition) {
    FieldBuilder fields;
    putFields(fields, definition);
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
    putFields(fields, definition);
    if (r.background.load(std::memory_order_relaxed)) return defineInBuffer(r, lane, Definition::kType, fields.bytes());
    defineAtOnce(Definition::kType, fields.bytes());
    return true;
}

/// A site's word; at its first use it is made known in the lane's buffer, or, where that has no room now, it is 0
/// and the event cannot be told. Two threads may both make it known; the first id stays.
uint64_t wordOf(Recorder& r, RecordedLane& lane, fug_site* site) {
    uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
    if (word) return word;
    const uint32_t id = r.nextSite.fetch_add(1, std::memory_order_relaxed);
    FieldBuilder fields;  // the address of the site, of its name, and its detail: for knowSite()
    const uint64_t numbers[3] = {reinterpret_cast<uint64_t>(site), reinterpret_cast<uint64_t>(site->name),
                                 site->detail};
    fields.raw(reinterpret_cast<const char*>(numbers), sizeof numbers);
    const std::string_view category = cutText(site->category, 200);
    putFields(fields,
              SiteFields<std::string_view>{id, site->line, site->longest_ns, nameText(site->name), category,
                                           cutText(site->description, 1200), cutText(site->file, 1000), site->detail});
    if (!defineInBuffer(r, lane, DefinitionType::Site, fields.bytes())) return 0;
    const DetailSettings* details = r.details.load(std::memory_order_acquire);
    const uint64_t made = siteWord(id, static_cast<int>(site->detail), details ? details->of(category) : 2);
    if (__atomic_compare_exchange_n(&site->word, &word, made, false, __ATOMIC_RELEASE, __ATOMIC_RELAXED)) return made;
    return word;
}

uint32_t siteId(uint64_t word) { return static_cast<uint32_t>(word >> 32) & 0x7fffffffu; }

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

/// As of a site's word.
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

void putArgument(fug_key* key, uint64_t bits, ArgumentType type, std::string_view text = {}) {
    if (!key) return;
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        const Pair pair{bits, static_cast<uint64_t>(type)};
        if (const uint32_t id = keyId(r, lane, key))
            put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::Argument), id, &pair, text);
        else
            countLost(r, lane, 1);
    });
}

ThreadGuard::~ThreadGuard() {
    gone = true;
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

/// Gives the definition the next id of its kind, and makes it known.
template <class Definition>
uint32_t defineNext(std::atomic<uint32_t> Recorder::*next, Definition definition) {
    definition.id = (recorder().*next).fetch_add(1, std::memory_order_relaxed);
    define(definition);
    return definition.id;
}

/// One of the recorder's texts, whose addresses stay valid.
const char* textOf(const char* Recorder::*text) {
    if (inside) return "";
    Recorder& r = recorder();
    const SetUpCall here;
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    return r.*text;
}

uint32_t powerOfTwo(uint32_t value) {
    uint32_t result = 64;
    while (result < value && result < (1u << 28)) result <<= 1;
    return result;
}

/// Ticks per nanosecond, told well enough for the first quarter second; clock blocks refine it.
double measureNsPerTick() {
    const ClockPair begin = readClocks();
    while (monotonicNs() - begin.ns < 2'000'000) {
    }
    const ClockPair end = readClocks();
    return static_cast<double>(end.ns - begin.ns) / static_cast<double>(end.ticks - begin.ticks);
}

/// What a begin and an end cost on this machine, in nanoseconds: the best of several batches into a
/// buffer of its own.
double measureMarkerCost(double nsPerTick) {
    constexpr uint64_t kSlots = 1024, kPairs = 4000;
    const std::unique_ptr<fug_slot[]> ring(new fug_slot[kSlots]());
    fug_buffer buffer{ring.get(), kSlots - 1, 0, UINT64_MAX, UINT64_MAX};
    fug_site site = FUG_SITE("", "", "");
    site.word = makeWord(Kind::MarkBegin, 1);
    fug_buffer* const before = fug_this_buffer;
    fug_this_buffer = &buffer;
    uint64_t best = UINT64_MAX;
    for (int batch = 0; batch < 6; ++batch) {
        const uint64_t from = fug_now();
        for (uint64_t i = 0; i < kPairs; ++i) fug_end(fug_begin(&site));
        best = std::min(best, fug_now() - from);
    }
    fug_this_buffer = before;
    return static_cast<double>(best) * nsPerTick / static_cast<double>(kPairs);
}

// ---- lanes of the host's own ----------------------------------------------------------------------

/// All that there are, in every recording of the process and of its children. Guarded by lanesMutex.
std::vector<fug_lane*>& hostLanes() {
    static auto* const lanes = new std::vector<fug_lane*>;
    return *lanes;
}

/// Gives a host's lane its place in the recording, so that entering it takes no lock. Its name is told when it is
/// first entered. With lanesMutex held.
void makeHostLaneLocked(Recorder& r, fug_lane& lane) {
    if (lane.of == &r) return;
    auto* made = new RecordedLane;
    made->name = lane.name;
    made->role = lane.role;
    made->kind = lane.kind;
    made->clock = lane.clock;
    addLaneLocked(r, *made);
    lane.lane = made;
    lane.of = &r;
}

// ---- fork: the child starts afresh ----------------------------------------------------------------

void beforeFork() {
    inside = true;  // until after: a handler in between tells nothing and stops nothing
    Recorder& r = recorder();
    r.outputMutex.lock();
    try {  // what is defined in the buffers must hold in the child too
        if (r.active.load()) drain(r, false);
    } catch (const std::bad_alloc&) {
    }
    r.lanesMutex.lock();
}
void afterForkInParent() {
    Recorder& r = recorder();
    r.lanesMutex.unlock();
    r.outputMutex.unlock();
    inside = false;
}
/// The parent's buffers and file are left alone; what was defined so far holds in the child as well.
void afterForkInChild() {
    Recorder& parents = recorder();
    // Whoever looks for the parent's locks must not find the child's copies of its descriptors.
    parents.output.leaveFile();
    parents.pool.leaveFiles();
    if (parents.os) parents.os->leaveFiles();
    auto* r = new Recorder;
    r->lasting = parents.lasting;
    r->sites = parents.sites;
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

void removeBuffersAtExit() {
    if (inside) return;  // exit() within a set-up call: all is left as by a kill, and can be made whole
    fug_stop();
    const SetUpCall here;
    Recorder& r = recorder();
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    r.pool.unlink();
}

/// Takes over every lane that lives on from an earlier recording. With both mutexes held.
void beginLane(Recorder& r, RecordedLane& lane) {
    lane.pendingCount = 0;
    lane.pendingBytes = 0;
    lane.pendingLast = 0;
    if (BufferEntry* const entry = lane.own()) {  // nothing from before the start but definitions
        const auto* ring = reinterpret_cast<const BufferSlot*>(entry->address);
        const uint64_t head = __atomic_load_n(&entry->head, __ATOMIC_ACQUIRE);
        char text[kMostSlotText + 32];
        while (lane.collected < head) {
            RawEvent event;
            uint8_t kind = 0;
            const uint64_t used = readSlots(ring, entry->mask, lane.collected, head, text, kind, event);
            lane.collected += used ? used : 1;
            if (!used || kind < kSlotDefinition) continue;
            std::string_view fields = event.text;
            const auto type = static_cast<DefinitionType>(kind - kSlotDefinition);
            if (type == DefinitionType::Site) knowSite(r, fields);
            if (!ofOneRecording(type)) r.lasting.add(type, fields);
        }
        __atomic_store_n(&entry->tail, lane.collected, __ATOMIC_RELEASE);
        __atomic_store_n(&entry->lost, 0, __ATOMIC_RELAXED);
    }
    lane.lostWithoutBuffer.store(0);
}

int start(const char* path, const fug_options& options) {
    Recorder& r = recorder();
    const std::lock_guard<std::mutex> outputGuard(r.outputMutex);
    const std::string file = path ? path : "";
    const uint64_t memory = options.memory_bytes ? options.memory_bytes : kDefaultMemoryBytes;
    const int error = r.output.open(file, static_cast<Existing>(numberOf(options.existing)),
                                    numberOf(options.on_failure) == FUG_GO_ON_IN_MEMORY, memory);
    r.toldFailure = !r.output.reason().empty();
    {
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        setStatus(r, r.output.reason());
        const bool inFile = r.output.state() == RecordingOutput::State::File;
        r.path = r.statuses.insert(inFile ? r.output.path() : std::string()).first->c_str();
        r.toldTrouble.clear();
    }
    if (error) return error;

    r.hostNow.store(options.now);
    const bool usesTsc = !options.now && tscIsInvariant();
    __atomic_store_n(&fug_uses_tsc, usesTsc, __ATOMIC_RELAXED);
    r.background.store(!options.no_background);
    r.recordingNumber.fetch_add(1);
    r.lost.store(0);
    FileHeader header{};
    header.clock = static_cast<uint32_t>(usesTsc ? ClockKind::Ticks : ClockKind::Nanoseconds);
    header.nsPerTick = usesTsc ? measureNsPerTick() : 1.0;
    double markerCost = 0;
    if (!options.now) markerCost = measureMarkerCost(header.nsPerTick);
    const ClockPair origin = readClocks();
    header.originTicks = r.originTicks = origin.ticks;
    r.originNs = origin.ns;
    if (!options.now) {
        timespec wall{};
        clock_gettime(CLOCK_REALTIME, &wall);
        header.startedUnixNs = wall.tv_sec * 1'000'000'000LL + wall.tv_nsec;
    }
    sealFileHeader(header);
    r.output.writeHeader(header);
    r.lastClockNs = 0;
    writeClock(r);
    {
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        r.bufferSlots = powerOfTwo(options.buffer_events ? options.buffer_events : kDefaultBufferEvents);
        if (!r.pool.isOpen()) {
            std::vector<std::string> folders;
            const std::string ownFolder = folderOf(r.output.path().empty() ? file : r.output.path());
            if (!options.buffer_folder)
                folders = {"/dev/shm", ownFolder};
            else if (*options.buffer_folder)
                folders = {options.buffer_folder, ownFolder};
            if (folders.size() == 2 && folders[0] == folders[1]) folders.pop_back();
            r.sweptFolders = folders;
            r.pool.open(std::move(folders), memory);
            static const int atExit = std::atexit(removeBuffersAtExit);
            (void)atExit;
        }
        for (RecordedLane* lane : r.lanes) beginLane(r, *lane);
        r.ofRecording = {};
        r.unwritten = {};
        r.unwritten.add(r.lasting);
        const auto [device, inode] = r.output.deviceAndInode();
        r.pool.beginRecording({header.originTicks, header.startedUnixNs, device, inode, r.output.path()});
        for (RecordedLane* lane : r.lanes) addDefinitionLocked(r, viewOf(r, *lane));
        for (fug_lane* lane : hostLanes()) makeHostLaneLocked(r, *lane);
        // The first area is there before it is needed, so that its path stands at the recording's front.
        if (BufferEntry* const first = takeBuffer(r, 0)) r.pool.giveBack(first);
    }
    addContext(r, "program", std::string(nameText(options.program)));
    addContext(r, "build", std::string(nameText(options.build)));
    if (!r.pool.path().empty()) addContext(r, "buffers", r.pool.path());
    if (!options.now) {
        char cost[32];
        // With a point, whatever the program's locale.
        const auto tenths = static_cast<uint64_t>(markerCost * 10 + 0.5);
        std::snprintf(cost, sizeof cost, "%llu.%llu", static_cast<unsigned long long>(tenths / 10),
                      static_cast<unsigned long long>(tenths % 10));
        addContext(r, "marker cost ns", cost);
        tellRunContext([&](const std::string& key, const std::string& value) { addContext(r, key, value); });
    }
    if (options.os && !options.now && !options.no_background) {
        r.os = std::make_unique<OsActivity>();
        r.os->start(r, options.os, options.sample_us ? options.sample_us : 1000);
    }
    writeDefinitions(r);
    r.quit.store(false);
    r.active.store(true, std::memory_order_release);
    if (r.background && !startThread(r.thread, backgroundThread)) r.background.store(false);
    if (r.background && !r.sweptFolders.empty()) startThread(r.sweeper, sweepingThread);
    return 0;
}

void stop() {
    Recorder* made = theRecorder.load(std::memory_order_acquire);
    if (!made) return;
    Recorder& r = *made;
    r.active.store(false, std::memory_order_release);
    pthread_t ended[2]{};
    {
        const std::lock_guard<std::mutex> guard(r.outputMutex);
        std::swap(ended[0], r.thread);
        std::swap(ended[1], r.sweeper);
        r.quit.store(true, std::memory_order_release);
    }
    for (const pthread_t thread : ended)
        if (thread != pthread_t{}) pthread_join(thread, nullptr);
    const std::lock_guard<std::mutex> guard(r.outputMutex);
    if (r.output.state() == RecordingOutput::State::Closed) return;
    if (r.output.state() == RecordingOutput::State::Memory && !r.lastClockNs) return;  // stopped already
    drain(r, true);
    r.os.reset();
    if (!r.pool.path().empty()) addContext(r, "buffers", "");
    writeDefinitions(r);
    r.output.close();
    r.lastClockNs = 0;
    const std::lock_guard<std::mutex> lanesGuard(r.lanesMutex);
    r.pool.endRecording();
    if (!r.output.reason().empty()) setStatus(r, r.output.reason());
}

/// Puts a category's setting into every known site that is still loaded.
void applyDetails(Recorder& r, const DetailSettings& details) {
    // Only memory that the loader holds mapped right now is touched, and there only what still is the
    // site it was: its code may have been unloaded.
    struct Visit {
        Recorder& r;
        const DetailSettings& details;
    } visit{r, details};
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* data) {
            const auto& [target, wanted] = *static_cast<Visit*>(data);
            for (int i = 0; i < info->dlpi_phnum; ++i) {
                const auto& segment = info->dlpi_phdr[i];
                if (segment.p_type != PT_LOAD || !(segment.p_flags & PF_W)) continue;
                const uint64_t from = info->dlpi_addr + segment.p_vaddr, to = from + segment.p_memsz;
                for (auto& [site, known] : target.sites) {
                    const auto at = reinterpret_cast<uint64_t>(site);
                    if (at < from || at + sizeof(fug_site) > to) continue;
                    const uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
                    if ((word & ~FUG_WORD_LEFT_OUT) != known.word || site->name != known.namePointer) continue;
                    __atomic_store_n(
                        &site->word,
                        siteWord(siteId(known.word), static_cast<int>(known.detail), wanted.of(known.category)),
                        __ATOMIC_RELAXED);
                }
            }
            return 0;
        },
        &visit);
}

}  // namespace

RecordedLane* makeOwnLane(Recorder& r, const char* name, const char* role, uint32_t kind, uint64_t osId,
                          uint32_t clock) {
    auto* lane = new RecordedLane;
    lane->name = name;
    lane->role = role;
    lane->kind = kind;
    lane->osId = osId;
    lane->clock = clock;
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    lane->id = r.nextLane.fetch_add(1);
    r.lanes.push_back(lane);
    addDefinitionLocked(r, viewOf(r, *lane));
    return lane;
}

void addEvent(Recorder& r, RecordedLane& lane, const RawEvent& event, uint64_t now) {
    if (!lane.pending) lane.pending.reset(new char[kPendingBytes]);
    if (lane.pendingBytes + event.text.size() + kMostEventBytes > kPendingBytes) writePending(r, lane);
    if (!lane.pendingCount) {
        lane.pendingFirst = lane.pendingLast = event.ticks;
        lane.pendingSince = now;
    }
    char* end = putEvent(lane.pending.get() + lane.pendingBytes, event, lane.pendingLast);
    lane.pendingBytes = static_cast<size_t>(end - lane.pending.get());
    ++lane.pendingCount;
}

void addDefinition(Recorder& r, DefinitionType type, std::string_view fields) {
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    if (type == DefinitionType::Counter)
        r.lasting.add(type, fields);
    else
        r.ofRecording.add(type, fields);
    r.unwritten.add(type, fields);
}

void addContext(Recorder& r, std::string_view key, std::string_view value) {
    addDefinition(r, ContextFields<std::string_view>{key, value});
}

}  // namespace fugato

// ---- the interface ---------------------------------------------------------------------------------

using namespace fugato;
using namespace fugato::layout;

extern "C" {

__thread fug_buffer* fug_this_buffer = &closedBuffer;
int fug_uses_tsc = 0;

uint64_t fug_now_slow(void) {
    if (Recorder* r = theRecorder.load(std::memory_order_acquire))
        if (auto* now = r->hostNow.load(std::memory_order_relaxed)) return now();
    return monotonicNs();
}

int fug_start(const char* path, const fug_options* options) {
    fug_stop();
    fug_options chosen{};
    if (options)
        std::memcpy(&chosen, options, options->size && options->size < sizeof chosen ? options->size : sizeof chosen);
    const SetUpCall here;
    try {
        return start(path, chosen);
    } catch (const std::bad_alloc&) {
        return ENOMEM;
    }
}

void fug_stop(void) {
    if (inside) return;
    const SetUpCall here;
    try {
        stop();
    } catch (const std::bad_alloc&) {
    }
}

int fug_save(const char* path) {
    if (inside || !path) return EINVAL;
    Recorder& r = recorder();
    const SetUpCall here;
    try {
        const std::lock_guard<std::mutex> guard(r.outputMutex);
        if (r.active.load()) drain(r, true);
        DefinitionRecords all;
        {
            const std::lock_guard<std::mutex> lanesGuard(r.lanesMutex);
            all.add(r.lasting);
            all.add(r.ofRecording);
        }
        return r.output.save(path, all.records, all.count);
    } catch (const std::bad_alloc&) {
        return ENOMEM;
    }
}

int fug_recording(void) {
    const Recorder* r = theRecorder.load(std::memory_order_acquire);
    return r && r->active.load(std::memory_order_relaxed) ? 1 : 0;
}

const char* fug_status(void) { return textOf(&Recorder::status); }

const char* fug_path(void) { return textOf(&Recorder::path); }

uint64_t fug_lost(void) { return recorder().lost.load(std::memory_order_relaxed); }

void fug_context(const char* key, const char* value) {
    define(ContextFields<std::string_view>{nameText(key), cutText(value, kMostSlotText / 2)});
}

void fug_detail(const char* category, int level) {
    if (inside) return;
    Recorder& r = recorder();
    const SetUpCall here;
    try {
        const std::lock_guard<std::mutex> outputGuard(r.outputMutex);
        std::vector<RecordedLane*> lanes;
        {
            const std::lock_guard<std::mutex> guard(r.lanesMutex);
            const DetailSettings* before = r.details.load();
            auto changed = std::make_unique<DetailSettings>(before ? *before : DetailSettings{});
            if (category) {
                changed->levels[std::string(cutText(category, 200))] = level;
            } else {
                changed->levels.clear();
                changed->otherwise = level;
            }
            r.details.store(changed.get(), std::memory_order_release);
            r.allDetails.push_back(std::move(changed));
            lanes = r.lanes;
        }
        // Sites whose definition still is in a buffer become known first.
        if (r.output.state() != RecordingOutput::State::Closed)
            for (RecordedLane* lane : lanes) collect(r, *lane, monotonicNs());
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        applyDetails(r, *r.details.load());
    } catch (const std::bad_alloc&) {
    }
}

void fug_name_thread(const char* name, const char* role, fug_lane_kind kind) {
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        LaneView told = viewOf(r, lane);
        told.kind = static_cast<LaneKind>(numberOf(kind));
        told.name = nameText(name);
        told.role = nameText(role);
        define(told);
        const SetUpCall here;
        try {
            const std::lock_guard<std::mutex> guard(r.lanesMutex);  // for the next recording
            lane.name = nameText(name);
            lane.role = nameText(role);
            lane.kind = numberOf(kind);
        } catch (const std::bad_alloc&) {
        }
    });
}

fug_lane* fug_lane_make(const char* name, const char* role, fug_lane_kind kind, uint32_t clock) {
    const SetUpCall here;
    try {
        Recorder& r = recorder();
        auto made = std::make_unique<fug_lane>();
        made->name = nameText(name);
        made->role = nameText(role);
        made->kind = numberOf(kind);
        made->clock = clock;
        const std::lock_guard<std::mutex> guard(r.lanesMutex);
        hostLanes().push_back(made.get());
        if (r.active.load(std::memory_order_acquire)) makeHostLaneLocked(r, *made);
        return made.release();
    } catch (const std::bad_alloc&) {
        return nullptr;
    }
}

void fug_lane_end(fug_lane* lane) {
    if (!lane) return;
    Recorder& r = recorder();
    const SetUpCall here;
    if (lane->lane && lane->of == &r) {
        if (lane->told == r.recordingNumber.load() && lane->lane->own() && r.active.load(std::memory_order_acquire))
            put(r, *lane->lane, Room::Reserved, static_cast<uint8_t>(Kind::LaneEnd), 0);
        lane->lane->ended.store(true, std::memory_order_release);
    }
    const std::lock_guard<std::mutex> guard(r.lanesMutex);
    std::vector<fug_lane*>& lanes = hostLanes();
    lanes.erase(std::remove(lanes.begin(), lanes.end(), lane), lanes.end());
    delete lane;
}

__attribute__((noinline)) fug_lane* fug_lane_enter(fug_lane* lane) {
    fug_lane* const before = enteredLane;
    enteredLane = lane;
    Recorder* const r = theRecorder.load(std::memory_order_acquire);
    hereLane = !lane ? ownLane : r && lane->of == r ? lane->lane : nullptr;
    fug_this_buffer = hereLane ? hereLane->buffer() : &closedBuffer;
    if (lane && hereLane && lane->told != r->recordingNumber.load(std::memory_order_relaxed) && r->active.load() &&
        defineSoon(*r, *hereLane, viewOf(*r, *hereLane)))
        lane->told = r->recordingNumber.load(std::memory_order_relaxed);
    return before;
}

uint32_t fug_clock(const char* name, double ns_per_tick) {
    return defineNext(&Recorder::nextClock, ClockFields<std::string_view>{0, ns_per_tick, nameText(name)});
}

void fug_clock_sync(uint32_t clock, uint64_t device_ticks, uint64_t host_ticks) {
    onThisLane([&](Recorder& r, RecordedLane& lane) {  // the next one will do where there is no room
        (void)defineSoon(r, lane, ClockSyncFields<std::string_view>{clock, device_ticks, host_ticks});
    });
}

void fug_at(uint64_t ticks) {
    onThisLane([&](Recorder&, RecordedLane& lane) {
        lane.givenTime = ticks;
        lane.timeGiven = true;
        publishLimits(lane);
    });
}

void fug_at_now(void) {
    onThisLane([](Recorder&, RecordedLane& lane) {
        lane.timeGiven = false;
        publishLimits(lane);
    });
}

uint32_t fug_series(const char* name, uint64_t deadline_ns) {
    return defineNext(&Recorder::nextSeries, SeriesFields<std::string_view>{0, deadline_ns, nameText(name)});
}
uint32_t fug_object(const char* name) {
    return defineNext(&Recorder::nextObject, ObjectFields<std::string_view>{0, nameText(name)});
}
uint32_t fug_counter(const char* name, const char* unit, const double* threshold) {
    return defineNext(&Recorder::nextCounter,
                      CounterFields<std::string_view>{0, threshold ? std::optional(*threshold) : std::nullopt,
                                                      nameText(name), nameText(unit)});
}
uint32_t fug_state(const char* name) {
    return defineNext(&Recorder::nextState, StateFields<std::string_view>{0, nameText(name)});
}
uint32_t fug_pool(const char* name) {
    return defineNext(&Recorder::nextPool, PoolFields<std::string_view>{0, nameText(name)});
}

int fug_begin_slow(fug_site* site) {
    int written = 0;
    onThisLaneAt(site, 2, [&](Recorder& r, RecordedLane& lane, uint32_t id) {
        written = put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::MarkBegin), id);
    });
    return written;
}

void fug_end_slow(void) { putHere(Kind::MarkEnd, 0, Room::Reserved); }

void fug_integer(fug_key* key, int64_t value) { putArgument(key, zigzag(value), ArgumentType::Integer); }
void fug_real(fug_key* key, double value) {
    uint64_t bits = 0;
    std::memcpy(&bits, &value, sizeof bits);
    putArgument(key, bits, ArgumentType::Real);
}
void fug_text(fug_key* key, const char* value) {
    putArgument(key, 0, ArgumentType::Text, cutText(value, kMaxTextBytes));
}
void fug_changed_nothing(void) { putPair(Kind::Outcome, 0, Room::Ordinary, 1); }

uint64_t fug_operation_begin(fug_site* site) {
    uint64_t number = 0;
    onThisLaneAt(site, 2, [&](Recorder& r, RecordedLane& lane, uint32_t id) {
        const Pair pair{r.nextOperation.fetch_add(1, std::memory_order_relaxed), 0};
        if (put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::OperationBegin), id, &pair)) number = pair.a;
    });
    return number;
}
void fug_operation_step(uint64_t operation, fug_site* step) {
    if (!operation) return;
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        const Pair pair{operation, 0};
        if (const uint64_t word = wordOf(r, lane, step))
            put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::OperationStep), siteId(word), &pair);
        else
            countLost(r, lane, 1);
    });
}
void fug_operation_end(uint64_t operation, int64_t code, const char* text) {
    if (operation)
        putPair(Kind::OperationEnd, 0, Room::Reserved, operation, zigzag(code), cutText(text, kMaxTextBytes));
}

void fug_frame_begin(uint32_t series, uint64_t deadline_ns) {
    putPair(Kind::FrameBegin, series, Room::Ordinary, deadline_ns);
}
void fug_frame_end(uint32_t series) { putHere(Kind::FrameEnd, series, Room::Reserved); }
void fug_frame_tick(uint32_t series, uint64_t deadline_ns) {
    putPair(Kind::FrameTick, series, Room::Reserved, deadline_ns);
}

void fug_count(uint32_t counter, double value) {
    uint64_t bits = 0;
    std::memcpy(&bits, &value, sizeof bits);
    putPair(Kind::Count, counter, Room::Ordinary, bits);
}
void fug_point(fug_severity severity, const char* text) {
    putHere(Kind::Point, numberOf(severity), Room::Ordinary, nullptr, cutText(text, kMaxTextBytes));
}
void fug_point_code(fug_severity severity, int64_t code, const char* text) {
    putPair(Kind::PointCode, numberOf(severity), Room::Ordinary, zigzag(code), 0, cutText(text, kMaxTextBytes));
}
void fug_state_set(uint32_t state, const char* value) {
    putHere(Kind::StateSet, state, Room::Ordinary, nullptr, cutText(value, kMaxTextBytes));
}

int fug_wait_begin(fug_site* site, uint32_t object, fug_wait_kind kind) {
    int written = 0;
    onThisLaneAt(site, 2, [&](Recorder& r, RecordedLane& lane, uint32_t id) {
        const Pair pair{id, numberOf(kind)};
        written = put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::WaitBegin), object, &pair);
    });
    return written;
}
void fug_wait_end(int began, uint64_t link) {
    if (began) putPair(Kind::WaitEnd, 0, Room::Reserved, link);
}

void fug_taken(uint32_t object) { putHere(Kind::Taken, object); }
void fug_given(uint32_t object) { putHere(Kind::Given, object, Room::Reserved); }

uint64_t fug_link_new(void) { return recorder().nextLink.fetch_add(1, std::memory_order_relaxed); }
void fug_link_out(uint64_t link) { putPair(Kind::LinkOut, 0, Room::Ordinary, link); }
void fug_link_in(uint64_t link) { putPair(Kind::LinkIn, 0, Room::Ordinary, link); }

void fug_memory_taken(uint32_t pool, const void* address, uint64_t bytes, const char* name) {
    putPair(Kind::MemoryTaken, pool, Room::Ordinary, reinterpret_cast<uint64_t>(address), bytes, nameText(name));
}
void fug_memory_given(uint32_t pool, const void* address) {
    putPair(Kind::MemoryGiven, pool, Room::Reserved, reinterpret_cast<uint64_t>(address));
}

void fug_picture(uint32_t width, uint32_t height, const void* pixels, size_t stride) {
    if (!pixels || !width || !height || stride < size_t{width} * 4) return;
    uint32_t step = 1;
    while (width / step > kMostPictureWidth || height / step > kMostPictureHeight) ++step;
    const uint32_t w = width / step, h = height / step;
    if (!w || !h) return;
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        // In pieces of whole rows; each names the picture, its size and its first row.
        const auto number = r.nextPicture.fetch_add(1, std::memory_order_relaxed);
        const uint32_t rowsEach = static_cast<uint32_t>(kPicturePieceBytes / (size_t{w} * 3));
        unsigned char piece[kPicturePieceBytes];
        for (uint32_t row = 0; row < h; row += rowsEach) {
            size_t size = 0;
            for (uint32_t y = row; y < std::min(h, row + rowsEach); ++y)
                for (uint32_t x = 0; x < w; ++x, size += 3)
                    std::memcpy(
                        piece + size,
                        static_cast<const unsigned char*>(pixels) + size_t{y} * step * stride + size_t{x} * step * 4,
                        3);
            const Pair pair{uint64_t{w} << 32 | h, row};
            put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::Picture), number, &pair,
                {reinterpret_cast<const char*>(piece), size});
        }
    });
}

}  // extern "C"
