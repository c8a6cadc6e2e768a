// SPDX-License-Identifier: MIT
#include "drain.hpp"

#include <pthread.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <new>

#include "definitions.hpp"
#include "moments.hpp"
#include "os_activity.hpp"
#include "unclosed_recording.hpp"

namespace fugato::recording {

using namespace layout;

namespace {

constexpr uint64_t kDrainPauseNs = 4'000'000, kShortPauseNs = 500'000;  // rest between two looks at the buffers
constexpr uint64_t kWriteAfterNs = 35'000'000;  // an event waits this long at most for its block
constexpr uint64_t kClockEveryNs = 250'000'000;
constexpr uint64_t kOfferEveryNs = 50'000'000;  // looking whether there is room for lanes without a buffer
constexpr int kSweeperNice = 19;

}  // namespace

void writePending(Recorder& r, RecordedLane& lane) {
    writeDefinitions(r);
    if (lane.pendingCount)
        r.output.writeBlock({BlockType::Events,
                             lane.id,
                             lane.pendingCount,
                             lane.pendingFirst,
                             lane.pendingLast,
                             static_cast<uint32_t>(lane.collected),
                             {lane.pending.get(), lane.pendingBytes}});
    lane.pendingCount = 0;
    lane.pendingBytes = 0;
    if (BufferEntry* const entry = lane.own()) __atomic_store_n(&entry->tail, lane.collected, __ATOMIC_RELEASE);
}

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
        if (lane.pendingBytes >= layout::kBlockBytes) writePending(r, lane);
    }
    return head - from;
}

namespace {

/// Tells the events lost at the end of a lane, after which nothing came.
void addLost(Recorder& r, RecordedLane& lane, uint64_t now) FUGATO_NEEDS(r.outputMutex) {
    uint64_t lost = lane.lostWithoutBuffer.exchange(0, std::memory_order_relaxed);
    if (BufferEntry* const entry = lane.own()) lost += __atomic_exchange_n(&entry->lost, 0, __ATOMIC_RELAXED);
    if (!lost) return;
    const uint64_t ticks = lane.pendingCount || lane.pendingLast ? lane.pendingLast : fug_now();
    addEvent(r, lane, {ticks, Kind::Lost, 0, lost, 0, {}}, now);
}

}  // namespace

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
    r.output.writeBlock(
        {BlockType::Clock, 0, 1, pair.ticks, pair.ticks, 0, {reinterpret_cast<const char*>(&pair), sizeof pair}});
}

void setStatus(Recorder& r, const std::string& text) { r.status = r.statuses.insert(text).first->c_str(); }

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

namespace {

/// Lanes that could not have a buffer before get one as soon as there is room.
void offerBuffers(Recorder& r, uint64_t now) {
    const Lock guard(r.lanesMutex);
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

}  // namespace

namespace {

void seeMoment(Recorder& r, const RecordedLane& lane, const RawEvent& event, uint64_t now) FUGATO_NEEDS(r.outputMutex) {
    uint64_t deadline = 0;
    if (event.kind == Kind::FrameBegin || event.kind == Kind::FrameTick) {
        const Lock guard(r.lanesMutex);
        deadline = event.a ? event.a : r.deadlines[event.id];
    }
    r.moments->see(lane.id, event, deadline, now);
}

void saveMoment(Recorder& r, uint64_t now, bool atOnce) FUGATO_NEEDS(r.outputMutex) {
    std::string asked;
    DefinitionRecords definitions;
    if (atOnce) r.moments->finish();
    {
        const Lock guard(r.lanesMutex);
        std::swap(asked, r.askedToSave);
        if (!asked.empty()) r.moments->happened("asked for: " + asked, now);
        if (!r.moments->due(now, atOnce)) return;
        definitions = r.lasting;
        definitions.add(r.ofRecording);
    }
    r.moments->save(r.output.held(), std::move(definitions.records), definitions.count, now);
}

}  // namespace

uint64_t drain(Recorder& r, bool all) {
    uint64_t pause = kDrainPauseNs;
    const uint64_t now = monotonicNs();
    if (now - r.lastClockNs >= kClockEveryNs || all) writeClock(r);
    if (r.os) r.os->poll(r, now, all);
    if (r.tellsStacks.load(std::memory_order_relaxed)) r.modules.tell(r, now, all);
    struct Looked {
        RecordedLane* lane;
        bool ended;
        uint64_t taken;
    };
    std::vector<Looked> lanes;
    {
        const Lock guard(r.lanesMutex);
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
        const Lock guard(r.lanesMutex);
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
    if (r.moments) saveMoment(r, now, all);
    const auto state = r.output.state();
    if (!r.toldFailure && !r.output.reason().empty()) {
        r.toldFailure = true;
        const Lock guard(r.lanesMutex);
        setStatus(r, r.output.reason());
    }
    if (state == RecordingOutput::State::Failed) r.active.store(false, std::memory_order_release);
    return pause;
}

namespace {

void* backgroundThread(void*) {
    inside = true;
    pthread_setname_np(pthread_self(), "fugato");
    Recorder& r = recorder();
    r.backgroundId.store(static_cast<uint32_t>(syscall(SYS_gettid)), std::memory_order_relaxed);
    while (!r.quit.load(std::memory_order_acquire)) {
        uint64_t pauseNs = kDrainPauseNs;
        try {
            const Lock guard(r.outputMutex);
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
        std::vector<std::string> folders;
        {
            const Lock guard(r.outputMutex);
            folders = r.sweptFolders;
        }
        for (const std::string& folder : folders)
            clearLeftBuffers(folder, [&] { return !r.quit.load(std::memory_order_acquire); });
    } catch (const std::bad_alloc&) {  // the next start looks again
    }
    return nullptr;
}

}  // namespace

bool startThread(pthread_t& thread, void* (*run)(void*), void* argument) {
    sigset_t all, before;
    sigfillset(&all);
    pthread_sigmask(SIG_SETMASK, &all, &before);
    const bool started = pthread_create(&thread, nullptr, run, argument) == 0;
    pthread_sigmask(SIG_SETMASK, &before, nullptr);
    if (!started) thread = {};
    return started;
}

void startBackground(Recorder& r) {
    if (r.background && !startThread(r.thread, backgroundThread)) r.background.store(false);
    if (r.background && !r.sweptFolders.empty()) startThread(r.sweeper, sweepingThread);
}

RecordedLane* makeOwnLane(Recorder& r, const char* name, const char* role, uint32_t kind, uint64_t osId,
                          uint32_t clock) {
    auto* lane = new RecordedLane;
    lane->name = name;
    lane->role = role;
    lane->kind = kind;
    lane->osId = osId;
    lane->clock = clock;
    const Lock guard(r.lanesMutex);
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
    if (r.moments && (event.kind == Kind::FrameBegin || event.kind == Kind::FrameEnd || event.kind == Kind::FrameTick ||
                      event.kind == Kind::Point || event.kind == Kind::PointCode))
        seeMoment(r, lane, event, now);
    char* end = putEvent(lane.pending.get() + lane.pendingBytes, event, lane.pendingLast);
    lane.pendingBytes = static_cast<size_t>(end - lane.pending.get());
    ++lane.pendingCount;
}

}  // namespace fugato::recording
