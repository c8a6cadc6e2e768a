// SPDX-License-Identifier: MIT
//
// Threads: each recorded thread owns a Lane and writes its ring without locks. Everything else
// (definitions, the list of lanes, the file) is guarded by Recorder::mutex. The background thread
// holds that mutex while it drains, so a thread's first event may wait for a drain, later ones never.
#include <fcntl.h>
#include <fugato/fugato.h>
#include <pthread.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fugato_layout.hpp>
#include <functional>
#include <memory>
#include <mutex>
#include <vector>
#if FUG_HAS_TSC
#include <cpuid.h>
#endif

namespace {

using namespace fugato::layout;

constexpr uint32_t kDefaultBufferEvents = 1u << 16;
constexpr uint64_t kDrainPauseNs = 4'000'000;    // rest between two looks at the buffers
constexpr uint64_t kWriteAfterNs = 100'000'000;  // an event waits this long at most for its block
constexpr size_t kWriteAfterBytes = 64 * 1024;   // or until its lane has this much
constexpr uint64_t kClockEveryNs = 250'000'000;
constexpr size_t kMaxTextBytes = 3200;       // of a point or state in the ring; cut beyond
constexpr size_t kMaxNameBytes = 16 * 1024;  // of a definition; cut beyond

uint64_t monotonicNs() {
    timespec time{};
    clock_gettime(CLOCK_MONOTONIC, &time);
    return static_cast<uint64_t>(time.tv_sec) * 1'000'000'000u + static_cast<uint64_t>(time.tv_nsec);
}

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

std::string_view cut(const char* text, size_t most) {
    if (!text) return {};
    const size_t size = strnlen(text, most + 1);
    if (size <= most) return {text, size};
    size_t keep = most;
    while (keep > 0 && (static_cast<unsigned char>(text[keep]) & 0xc0) == 0x80) --keep;  // whole characters
    return {text, keep};
}

uint64_t makeWord(Kind kind, uint32_t id, unsigned extraSlots = 0, unsigned small = 0) {
    return static_cast<uint64_t>(kind) | static_cast<uint64_t>(extraSlots & 0xff) << 8 |
           static_cast<uint64_t>(small & 0xffff) << 16 | static_cast<uint64_t>(id) << 32;
}

/// A ring plus what the drain needs to know of its thread. `buffer` comes first so that the
/// thread-local pointer leads back here.
struct Lane {
    fug_buffer buffer{};
    std::unique_ptr<fug_slot[]> storage;
    uint64_t lost = 0;       // by the owning thread: dropped since the last Lost event
    uint32_t lostDepth = 0;  // by the owning thread: open markers whose begin was dropped
    alignas(64) std::atomic<uint64_t> tail{0};
    std::atomic<bool> ended{false};
    uint32_t id = 0;
    std::string definition;  // its fields, guarded by Recorder::mutex
    // by the drain:
    std::string pending;
    uint32_t pendingCount = 0;
    uint64_t pendingFirst = 0, pendingLast = 0, pendingSince = 0;
};

fug_buffer closedBuffer{};  // every thread's buffer before its first event: limits 0

struct FileSink {
    int* fd;
    std::string* status;
    bool operator()(std::string_view bytes) const {
        while (*fd >= 0 && !bytes.empty()) {
            const ssize_t done = ::write(*fd, bytes.data(), bytes.size());
            if (done < 0 && errno == EINTR) continue;
            if (done <= 0) {
                *status = std::string("writing the recording stopped: ") + std::strerror(done < 0 ? errno : ENOSPC);
                ::close(*fd);
                *fd = -1;
                return false;
            }
            bytes.remove_prefix(static_cast<size_t>(done));
        }
        return *fd >= 0;
    }
};

struct Recorder {
    std::mutex mutex;
    std::atomic<bool> active{false};
    std::atomic<uint64_t> lost{0};
    std::atomic<uint64_t> nextLink{1};
    // all guarded by mutex:
    struct Definitions {
        std::string records;
        uint32_t count = 0;
        void add(DefinitionType type, std::string_view fields) {
            appendDefinition(records, type, fields);
            ++count;
        }
    };
    Definitions lasting;    // of sites, series, objects…: they hold for every recording of this process
    Definitions unwritten;  // of this recording, not yet in its file
    std::vector<Lane*> lanes;
    uint32_t nextLane = 1, nextSite = 1, nextSeries = 1, nextObject = 1, nextCounter = 1, nextState = 1;
    uint32_t bufferEvents = kDefaultBufferEvents;
    int fd = -1;
    std::string status;
    std::unique_ptr<BlockFile<FileSink>> file;  // null while not recording
    uint64_t originTicks = 0, originNs = 0, lastClockNs = 0;
    bool background = true;
    pthread_t thread{};
    std::atomic<bool> quit{false};
    std::atomic<uint64_t (*)()> hostNow{nullptr};
};

void stopInForkedChild();  // a forked child does not record

Recorder& recorder() {
    static Recorder* const self = [] {
        auto* made = new Recorder;  // never destroyed: threads may outlive static destruction
        pthread_atfork(nullptr, nullptr, stopInForkedChild);
        return made;
    }();
    return *self;
}

void define(Recorder& r, DefinitionType type, const std::string& fields) {
    r.lasting.add(type, fields);
    if (r.file) r.unwritten.add(type, fields);
}

void writeDefinitions(Recorder& r) {
    if (!r.unwritten.count) return;
    r.file->writeBlock(BlockType::Definitions, 0, r.unwritten.count, 0, 0, r.unwritten.records);
    r.unwritten = {};
}

void writePending(Recorder& r, Lane& lane) {
    if (!lane.pendingCount) return;
    writeDefinitions(r);
    r.file->writeBlock(BlockType::Events, lane.id, lane.pendingCount, lane.pendingFirst, lane.pendingLast,
                       lane.pending);
    lane.pending.clear();
    lane.pendingCount = 0;
}

/// Packs what the thread has published since the last look. Returns the number of slots taken.
uint64_t collect(Recorder& r, Lane& lane, uint64_t now) {
    const uint64_t head = __atomic_load_n(&lane.buffer.head, __ATOMIC_ACQUIRE);
    uint64_t at = lane.tail.load(std::memory_order_relaxed);
    const uint64_t taken = head - at;
    char text[kMaxTextBytes + 16];
    while (at < head) {
        const fug_slot slot = lane.buffer.ring[at & lane.buffer.mask];
        RawEvent event;
        event.ticks = slot.ticks;
        event.kind = static_cast<Kind>(slot.word & 0xff);
        event.id = static_cast<uint32_t>(slot.word >> 32);
        const unsigned extra = slot.word >> 8 & 0xff, small = slot.word >> 16 & 0xffff;
        if (kindHasText(event.kind)) {
            for (unsigned i = 0; i < extra; ++i)
                std::memcpy(text + size_t{16} * i, &lane.buffer.ring[(at + 1 + i) & lane.buffer.mask], 16);
            event.text = {text, small};
        } else if (extra) {
            const fug_slot& more = lane.buffer.ring[(at + 1) & lane.buffer.mask];
            event.a = more.ticks;
            event.b = more.word;
        }
        at += 1 + extra;
        if (!lane.pendingCount) {
            lane.pendingFirst = lane.pendingLast = event.ticks;
            lane.pendingSince = now;
        }
        appendEvent(lane.pending, event, lane.pendingLast);
        ++lane.pendingCount;
        if (lane.pending.size() >= kWriteAfterBytes) {
            lane.tail.store(at, std::memory_order_release);
            writePending(r, lane);
        }
    }
    lane.tail.store(at, std::memory_order_release);
    return taken;
}

void writeClock(Recorder& r) {
    if (!fug_uses_tsc) return;
    const uint64_t before = monotonicNs();
    const ClockPair pair{fug_now(), 0};
    const uint64_t after = monotonicNs();
    const ClockPair exact{pair.ticks, before + (after - before) / 2 - r.originNs};
    r.lastClockNs = after;
    r.file->writeBlock(BlockType::Clock, 0, 1, exact.ticks, exact.ticks,
                       {reinterpret_cast<const char*>(&exact), sizeof exact});
}

/// One look at every lane. Returns true where some lane filled quickly and wants a new look soon.
bool drain(Recorder& r, bool all) {
    bool busy = false;
    const uint64_t now = monotonicNs();
    if (now - r.lastClockNs >= kClockEveryNs || all) writeClock(r);
    for (size_t i = 0; i < r.lanes.size();) {
        Lane& lane = *r.lanes[i];
        const bool ended = lane.ended.load(std::memory_order_acquire);
        busy |= collect(r, lane, now) > lane.buffer.mask / 8;
        if (all || ended || now - lane.pendingSince >= kWriteAfterNs) writePending(r, lane);
        if (ended) {
            delete &lane;
            r.lanes.erase(r.lanes.begin() + static_cast<std::ptrdiff_t>(i));
        } else {
            ++i;
        }
    }
    writeDefinitions(r);
    return busy;
}

void* backgroundThread(void*) {
    Recorder& r = recorder();
    while (!r.quit.load(std::memory_order_acquire)) {
        bool busy = false;
        {
            const std::lock_guard<std::mutex> guard(r.mutex);
            if (r.active.load(std::memory_order_relaxed)) busy = drain(r, false);
        }
        if (busy) continue;
        const timespec pause{0, static_cast<long>(kDrainPauseNs)};
        nanosleep(&pause, nullptr);
    }
    return nullptr;
}

struct ThreadGuard {  // its destructor runs when the thread ends
    Lane* lane = nullptr;
    bool gone = false;
    ~ThreadGuard();
};
thread_local ThreadGuard threadGuard;

Lane* laneOf(fug_buffer* buffer) { return reinterpret_cast<Lane*>(buffer); }

/// Renews the limits from the reader's position; `slots` are wanted. Returns whether recording is on.
bool refresh(Recorder& r, Lane& lane, uint64_t slots) {
    if (!r.active.load(std::memory_order_acquire)) {
        lane.buffer.begin_limit = lane.buffer.end_limit = 0;
        return false;
    }
    const uint64_t capacity = lane.buffer.mask + 1, reserve = capacity / 8;
    for (int round = 0;; ++round) {
        const uint64_t tail = lane.tail.load(std::memory_order_acquire);
        const bool open = lane.lostDepth == 0;
        lane.buffer.end_limit = open ? tail + capacity : 0;
        lane.buffer.begin_limit = open ? tail + capacity - reserve : 0;
        if (round > 0 || r.background || lane.buffer.head + slots <= tail + capacity - reserve) return true;
        const std::lock_guard<std::mutex> guard(r.mutex);  // no background thread: empty it here
        if (!r.active.load(std::memory_order_relaxed)) return false;
        collect(r, lane, monotonicNs());
    }
}

void defineLane(Recorder& r, Lane& lane, const char* name, const char* role, fug_lane_kind kind) {
    std::string fields;
    appendVarint(fields, lane.id);
    appendVarint(fields, static_cast<uint64_t>(kind));
    appendVarint(fields, r.hostNow.load() ? 0 : static_cast<uint64_t>(syscall(SYS_gettid)));
    appendText(fields, cut(name, kMaxNameBytes));
    appendText(fields, cut(role, kMaxNameBytes));
    r.unwritten.add(DefinitionType::Lane, fields);
    lane.definition = std::move(fields);
}

/// The calling thread's lane, made at its first event. Null where nothing is recorded.
Lane* attach(Recorder& r) {
    if (fug_this_buffer != &closedBuffer) return laneOf(fug_this_buffer);
    if (threadGuard.gone || !r.active.load(std::memory_order_acquire)) return nullptr;
    const std::lock_guard<std::mutex> guard(r.mutex);
    auto* lane = new (std::nothrow) Lane;
    if (!lane) return nullptr;
    lane->storage.reset(new (std::nothrow) fug_slot[r.bufferEvents]);
    if (!lane->storage) {
        delete lane;
        return nullptr;
    }
    lane->buffer.ring = lane->storage.get();
    lane->buffer.mask = r.bufferEvents - 1;
    lane->id = r.nextLane++;
    defineLane(r, *lane, "", "", FUG_LANE_THREAD);
    r.lanes.push_back(lane);
    threadGuard.lane = lane;
    fug_this_buffer = &lane->buffer;
    return lane;
}

uint64_t siteWord(Recorder& r, fug_site* site) {
    uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
    if (word) return word;
    const std::lock_guard<std::mutex> guard(r.mutex);
    word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
    if (word) return word;
    std::string fields;
    const uint32_t id = r.nextSite++;
    appendVarint(fields, id);
    appendVarint(fields, site->line);
    appendVarint(fields, site->longest_ns);
    for (const char* text : {site->name, site->category, site->description, site->file})
        appendText(fields, cut(text, kMaxNameBytes));
    define(r, DefinitionType::Site, fields);
    word = makeWord(Kind::MarkBegin, id);
    __atomic_store_n(&site->word, word, __ATOMIC_RELEASE);
    return word;
}

enum class Room { Ordinary, Reserved };

/// Writes one event with its extra slots, or counts it as lost. Returns whether it was written.
bool put(Recorder& r, Lane& lane, Room room, uint64_t word, const void* extra = nullptr, size_t extraBytes = 0) {
    fug_buffer& buffer = lane.buffer;
    const uint64_t slots = (extraBytes + 15) / 16;
    const auto limit = [&] { return room == Room::Ordinary ? buffer.begin_limit : buffer.end_limit; };
    const uint64_t wanted = 1 + slots + (lane.lost ? 2 : 0);
    if (buffer.head + wanted > limit()) {
        if (!refresh(r, lane, wanted)) return false;
        if (buffer.head + wanted > limit()) {
            ++lane.lost;
            r.lost.fetch_add(1, std::memory_order_relaxed);
            return false;
        }
    }
    const auto write = [&](uint64_t at, const fug_slot& slot) { buffer.ring[at & buffer.mask] = slot; };
    uint64_t head = buffer.head;
    if (lane.lost) {
        write(head++, {fug_now(), makeWord(Kind::Lost, 0, 1)});
        write(head++, {lane.lost, 0});
        lane.lost = 0;
    }
    write(head++, {fug_now(), word | slots << 8});
    const char* from = static_cast<const char*>(extra);
    for (size_t left = extraBytes; left > 0;) {
        fug_slot slot{0, 0};
        const size_t part = left < 16 ? left : 16;
        std::memcpy(&slot, from, part);
        write(head++, slot);
        from += part;
        left -= part;
    }
    __atomic_store_n(&buffer.head, head, __ATOMIC_RELEASE);
    return true;
}

/// Calls `write(recorder, lane)` where the calling thread is recorded.
template <class Write>
void onThisLane(Write&& write) {
    Recorder& r = recorder();
    if (!r.active.load(std::memory_order_relaxed)) return;
    if (Lane* lane = attach(r)) write(r, *lane);
}

void putPair(Kind kind, uint32_t id, Room room, uint64_t a, uint64_t b = 0) {
    const uint64_t pair[2] = {a, b};
    onThisLane([&](Recorder& r, Lane& lane) { put(r, lane, room, makeWord(kind, id), pair, sizeof pair); });
}

void putText(Kind kind, uint32_t id, const char* text) {
    const std::string_view kept = cut(text, kMaxTextBytes);
    onThisLane([&](Recorder& r, Lane& lane) {
        put(r, lane, Room::Ordinary, makeWord(kind, id, 0, static_cast<unsigned>(kept.size())), kept.data(),
            kept.size());
    });
}

/// Begin of something nested: where it is lost, everything up to its end is lost with it.
void putBegin(Recorder& r, Lane& lane, uint64_t word, const void* extra = nullptr, size_t extraBytes = 0) {
    if (lane.lostDepth == 0 && put(r, lane, Room::Ordinary, word, extra, extraBytes)) return;
    if (!r.active.load(std::memory_order_relaxed)) return;
    if (lane.lostDepth++ > 0) {
        ++lane.lost;
        r.lost.fetch_add(1, std::memory_order_relaxed);
    }
    lane.buffer.begin_limit = lane.buffer.end_limit = 0;
}

void putEnd(Recorder& r, Lane& lane, uint64_t word, const void* extra = nullptr, size_t extraBytes = 0) {
    if (lane.lostDepth > 0) {
        --lane.lostDepth;
        ++lane.lost;
        r.lost.fetch_add(1, std::memory_order_relaxed);
        return;
    }
    put(r, lane, Room::Reserved, word, extra, extraBytes);
}

ThreadGuard::~ThreadGuard() {
    gone = true;
    if (!lane) return;
    put(recorder(), *lane, Room::Reserved, makeWord(Kind::LaneEnd, 0));
    fug_this_buffer = &closedBuffer;
    lane->ended.store(true, std::memory_order_release);
    lane = nullptr;
}

uint32_t defineNamed(DefinitionType type, uint32_t Recorder::*next, const std::function<void(std::string&)>& fields) {
    Recorder& r = recorder();
    const std::lock_guard<std::mutex> guard(r.mutex);
    const uint32_t id = (r.*next)++;
    std::string bytes;
    appendVarint(bytes, id);
    fields(bytes);
    define(r, type, bytes);
    return id;
}

std::string contextFields(const char* key, const char* value) {
    std::string fields;
    appendText(fields, cut(key, kMaxNameBytes));
    appendText(fields, cut(value, kMaxNameBytes));
    return fields;
}

uint32_t powerOfTwo(uint32_t value) {
    uint32_t result = 64;
    while (result < value && result < (1u << 28)) result <<= 1;
    return result;
}

/// Ticks per nanosecond, told well enough for the first quarter second; clock blocks refine it.
double measureNsPerTick() {
    const uint64_t ns = monotonicNs(), ticks = fug_now();
    while (monotonicNs() - ns < 2'000'000) {
    }
    return static_cast<double>(monotonicNs() - ns) / static_cast<double>(fug_now() - ticks);
}

void stopInForkedChild() {
    fug_this_buffer = &closedBuffer;
    threadGuard.lane = nullptr;
    threadGuard.gone = true;
    recorder().active.store(false);
}

}  // namespace

extern "C" {

__thread fug_buffer* fug_this_buffer = &closedBuffer;
int fug_uses_tsc = 0;

uint64_t fug_now_slow(void) {
    if (auto* now = recorder().hostNow.load(std::memory_order_relaxed)) return now();
    return monotonicNs();
}

int fug_start(const char* path, const fug_options* options) {
    fug_stop();
    Recorder& r = recorder();
    const std::lock_guard<std::mutex> guard(r.mutex);
    const fug_options chosen = options ? *options : fug_options{};
    r.status.clear();
    r.fd = path ? ::open(path, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644) : (errno = EINVAL, -1);
    if (r.fd < 0) {
        const int error = errno;
        r.status = std::string("cannot create ") + (path ? path : "(no path)") + ": " + std::strerror(error);
        return error;
    }
    r.hostNow.store(chosen.now);
    fug_uses_tsc = !chosen.now && tscIsInvariant();
    r.background = !chosen.no_background;
    r.bufferEvents = powerOfTwo(chosen.buffer_events ? chosen.buffer_events : kDefaultBufferEvents);
    r.lost.store(0);

    FileHeader header{};
    header.clock = static_cast<uint32_t>(fug_uses_tsc ? ClockKind::Ticks : ClockKind::Nanoseconds);
    header.nsPerTick = fug_uses_tsc ? measureNsPerTick() : 1.0;
    header.originTicks = r.originTicks = fug_now();
    r.originNs = monotonicNs();
    if (!chosen.now) {
        timespec wall{};
        clock_gettime(CLOCK_REALTIME, &wall);
        header.startedUnixNs = wall.tv_sec * 1'000'000'000LL + wall.tv_nsec;
    }
    r.file = std::make_unique<BlockFile<FileSink>>(FileSink{&r.fd, &r.status});
    r.file->writeHeader(header);
    r.unwritten = r.lasting;
    r.unwritten.add(DefinitionType::Context, contextFields("program", chosen.program));
    r.unwritten.add(DefinitionType::Context, contextFields("build", chosen.build));
    r.lastClockNs = 0;
    writeClock(r);
    for (Lane* lane : r.lanes) {  // nothing from before the start
        lane->tail.store(__atomic_load_n(&lane->buffer.head, __ATOMIC_ACQUIRE), std::memory_order_release);
        lane->pending.clear();
        lane->pendingCount = 0;
        r.unwritten.add(DefinitionType::Lane, lane->definition);
    }
    r.quit.store(false);
    r.active.store(true, std::memory_order_release);
    if (r.background && pthread_create(&r.thread, nullptr, backgroundThread, nullptr) != 0) r.background = false;
    static const int atExit = std::atexit(fug_stop);
    (void)atExit;
    return 0;
}

void fug_stop(void) {
    Recorder& r = recorder();
    if (!r.active.exchange(false)) return;
    if (r.background) {
        r.quit.store(true, std::memory_order_release);
        pthread_join(r.thread, nullptr);
    }
    const std::lock_guard<std::mutex> guard(r.mutex);
    drain(r, true);
    r.file->writeIndex();
    if (r.fd >= 0) ::close(r.fd);
    r.fd = -1;
    r.file.reset();
}

int fug_recording(void) { return recorder().active.load(std::memory_order_relaxed) ? 1 : 0; }

const char* fug_status(void) {
    Recorder& r = recorder();
    const std::lock_guard<std::mutex> guard(r.mutex);
    return r.status.c_str();
}

uint64_t fug_lost(void) { return recorder().lost.load(std::memory_order_relaxed); }

void fug_context(const char* key, const char* value) {
    Recorder& r = recorder();
    const std::lock_guard<std::mutex> guard(r.mutex);
    define(r, DefinitionType::Context, contextFields(key, value));
}

void fug_name_thread(const char* name, const char* role, fug_lane_kind kind) {
    onThisLane([&](Recorder& r, Lane& lane) {
        const std::lock_guard<std::mutex> guard(r.mutex);
        defineLane(r, lane, name, role, kind);
    });
}

uint32_t fug_series(const char* name, uint64_t deadline_ns) {
    return defineNamed(DefinitionType::Series, &Recorder::nextSeries, [&](std::string& out) {
        appendVarint(out, deadline_ns);
        appendText(out, cut(name, kMaxNameBytes));
    });
}

uint32_t fug_object(const char* name) {
    return defineNamed(DefinitionType::Object, &Recorder::nextObject,
                       [&](std::string& out) { appendText(out, cut(name, kMaxNameBytes)); });
}

uint32_t fug_counter(const char* name, const char* unit, const double* threshold) {
    return defineNamed(DefinitionType::Counter, &Recorder::nextCounter, [&](std::string& out) {
        uint64_t bits = 0;
        if (threshold) std::memcpy(&bits, threshold, sizeof bits);
        appendVarint(out, threshold ? 1 : 0);
        appendVarint(out, bits);
        appendText(out, cut(name, kMaxNameBytes));
        appendText(out, cut(unit, kMaxNameBytes));
    });
}

uint32_t fug_state(const char* name) {
    return defineNamed(DefinitionType::State, &Recorder::nextState,
                       [&](std::string& out) { appendText(out, cut(name, kMaxNameBytes)); });
}

void fug_begin_slow(fug_site* site) {
    onThisLane([&](Recorder& r, Lane& lane) { putBegin(r, lane, siteWord(r, site)); });
}

void fug_end_slow(void) {
    onThisLane([](Recorder& r, Lane& lane) { putEnd(r, lane, makeWord(Kind::MarkEnd, 0)); });
}

void fug_frame_begin(uint32_t series, uint64_t deadline_ns) {
    putPair(Kind::FrameBegin, series, Room::Ordinary, deadline_ns);
}

void fug_frame_end(uint32_t series) {
    onThisLane([&](Recorder& r, Lane& lane) { put(r, lane, Room::Reserved, makeWord(Kind::FrameEnd, series)); });
}

void fug_count(uint32_t counter, double value) {
    uint64_t bits = 0;
    std::memcpy(&bits, &value, sizeof bits);
    putPair(Kind::Count, counter, Room::Ordinary, bits);
}

void fug_point(fug_severity severity, const char* text) { putText(Kind::Point, static_cast<uint32_t>(severity), text); }
void fug_state_set(uint32_t state, const char* value) { putText(Kind::StateSet, state, value); }

void fug_wait_begin(fug_site* site, uint32_t object, fug_wait_kind kind) {
    onThisLane([&](Recorder& r, Lane& lane) {
        const uint64_t pair[2] = {siteWord(r, site) >> 32, static_cast<uint64_t>(kind)};
        putBegin(r, lane, makeWord(Kind::WaitBegin, object), pair, sizeof pair);
    });
}

void fug_wait_end(uint64_t link) {
    const uint64_t pair[2] = {link, 0};
    onThisLane([&](Recorder& r, Lane& lane) { putEnd(r, lane, makeWord(Kind::WaitEnd, 0), pair, sizeof pair); });
}

void fug_taken(uint32_t object) {
    onThisLane([&](Recorder& r, Lane& lane) { put(r, lane, Room::Ordinary, makeWord(Kind::Taken, object)); });
}
void fug_given(uint32_t object) {
    onThisLane([&](Recorder& r, Lane& lane) { put(r, lane, Room::Reserved, makeWord(Kind::Given, object)); });
}

uint64_t fug_link_new(void) { return recorder().nextLink.fetch_add(1, std::memory_order_relaxed); }
void fug_link_out(uint64_t link) { putPair(Kind::LinkOut, 0, Room::Ordinary, link); }
void fug_link_in(uint64_t link) { putPair(Kind::LinkIn, 0, Room::Ordinary, link); }

}  // extern "C"
