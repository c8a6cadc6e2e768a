// SPDX-License-Identifier: MIT
#include "start_stop.hpp"

#include <time.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <new>

#include "control.hpp"
#include "drain.hpp"
#include "moments.hpp"
#include "os_activity.hpp"
#include "own_files.hpp"
#include "run_context.hpp"
#include "this_thread.hpp"
#if FUG_HAS_TSC
#include <cpuid.h>
#endif

namespace fugato::recording {

using namespace layout;

namespace {

constexpr uint32_t kDefaultBufferEvents = 1u << 16;
constexpr uint64_t kDefaultMemoryBytes = 256u << 20;

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

void atExit() {
    if (inside) return;  // exit() within a set-up call: all is left as by a kill, and can be made whole
    endOffer();
    const SetUpCall here;
    try {
        stop();
    } catch (const std::bad_alloc&) {
    }
    Recorder& r = recorder();
    const Lock guard(r.lanesMutex);
    r.pool.unlink();
}

/// Takes over every lane that lives on from an earlier recording. With both mutexes held.
void beginLane(Recorder& r, RecordedLane& lane) FUGATO_NEEDS(r.lanesMutex) {
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

/// Opens the output and tells how that went. Returns 0 or an errno.
int openOutput(Recorder& r, const std::string& file, const fug_options& options,
               const std::optional<MomentPlan>& moments) FUGATO_NEEDS(r.outputMutex) {
    const uint64_t memory = options.memory_bytes ? options.memory_bytes : kDefaultMemoryBytes;
    CreatedFile created = moments ? createRecording({}, Existing::Keep)  // in memory
                          : options.descriptor > 0
                              ? takeRecording(options.descriptor)
                              : createRecording(file, static_cast<Existing>(numberOf(options.existing)));
    const bool inMemory = numberOf(options.on_failure) == FUG_GO_ON_IN_MEMORY || moments;
    const int error =
        r.output.open(std::move(created), inMemory, memory, moments ? moments->beforeNs + moments->afterNs : 0);
    r.toldFailure = !r.output.reason().empty();
    const Lock guard(r.lanesMutex);
    setStatus(r, r.output.reason());
    const bool inFile = r.output.state() == RecordingOutput::State::File;
    if (!error && options.program) r.program = options.program;
    if (!error && options.build) r.build = options.build;
    r.path = r.statuses.insert(inFile ? r.output.path() : std::string()).first->c_str();
    r.toldTrouble.clear();
    return error;
}

/// Sets the clocks and writes the file's header. Returns what a marker costs, in nanoseconds; 0 by a clock of the
/// host's.
double writeHeader(Recorder& r, FileHeader& header, const fug_options& options) FUGATO_NEEDS(r.outputMutex) {
    const bool usesTsc = chooseClock(options);
    header.clock = static_cast<uint32_t>(usesTsc ? ClockKind::Ticks : ClockKind::Nanoseconds);
    header.nsPerTick = usesTsc ? measureNsPerTick() : 1.0;
    const double markerCost = options.now ? 0 : measureMarkerCost(header.nsPerTick);
    const ClockPair origin = readClocks();
    r.nsPerTick = header.nsPerTick;
    header.originTicks = r.originTicks = origin.ticks;
    r.originNs = origin.ns;
    if (!options.now) {
        timespec wall{};
        clock_gettime(CLOCK_REALTIME, &wall);
        header.startedUnixNs = wall.tv_sec * 1'000'000'000LL + wall.tv_nsec;
    }
    r.startedUnixNs = header.startedUnixNs;
    sealFileHeader(header);
    r.output.writeHeader(header);
    r.lastClockNs = 0;
    writeClock(r);
    return markerCost;
}

/// The first recording of a process chooses where its buffers lie.
void openPool(Recorder& r, const std::string& file, const fug_options& options)
    FUGATO_NEEDS(r.outputMutex, r.lanesMutex) {
    if (r.pool.isOpen()) return;
    std::vector<std::string> folders;
    if (!options.buffer_folder || *options.buffer_folder)
        folders = {options.buffer_folder ? options.buffer_folder : "/dev/shm"};
    const std::string& path = r.output.path().empty() ? file : r.output.path();
    if (!folders.empty() && !path.empty() && folderOf(path) != folders[0]) folders.push_back(folderOf(path));
    r.sweptFolders = folders;
    r.pool.open(std::move(folders), options.memory_bytes ? options.memory_bytes : kDefaultMemoryBytes);
    seeToExit();
}

/// Whose the buffers are.
void tellPool(Recorder& r) FUGATO_NEEDS(r.outputMutex, r.lanesMutex) {
    const auto [device, inode] = r.output.deviceAndInode();
    r.pool.beginRecording({r.originTicks, r.startedUnixNs, device, inode, r.output.path()});
}

/// Lanes, definitions and buffers as they are at a recording's start.
void beginLanes(Recorder& r, const std::string& file, const fug_options& options) FUGATO_NEEDS(r.outputMutex) {
    const Lock guard(r.lanesMutex);
    r.bufferSlots = powerOfTwo(options.buffer_events ? options.buffer_events : kDefaultBufferEvents);
    openPool(r, file, options);
    for (RecordedLane* lane : r.lanes) beginLane(r, *lane);
    r.ofRecording = {};
    r.unwritten = {};
    r.unwritten.add(r.lasting);
    const auto syncs = r.clockSyncs;
    for (const auto& [clock, ticks] : syncs)  // the program may tell them seldom
        addDefinitionLocked(r, ClockSyncFields<std::string_view>{clock, ticks.first, ticks.second});
    tellPool(r);
    for (RecordedLane* lane : r.lanes) addDefinitionLocked(r, viewOf(r, *lane));
    for (fug_lane* lane : hostLanes()) makeHostLaneLocked(r, *lane);
    // The first area is there before it is needed, so that its path stands at the recording's front.
    if (BufferEntry* const first = takeBuffer(r, 0)) r.pool.giveBack(first);
}

std::string bufferPath(Recorder& r) {
    const Lock guard(r.lanesMutex);
    return r.pool.path();
}

/// What is known of the run: the program, its build, the machine.
void tellContext(Recorder& r, double markerCost, const fug_options& options) {
    addContext(r, "program", nameText(options.program));
    addContext(r, "build", nameText(options.build));
    if (const std::string buffers = bufferPath(r); !buffers.empty()) addContext(r, "buffers", buffers);
    if (options.now) return;
    char cost[32];
    // With a point, whatever the program's locale.
    const auto tenths = static_cast<uint64_t>(markerCost * 10 + 0.5);
    std::snprintf(cost, sizeof cost, "%llu.%llu", static_cast<unsigned long long>(tenths / 10),
                  static_cast<unsigned long long>(tenths % 10));
    addContext(r, "marker cost ns", cost);
    addContext(r, layout::kRecordingIdKey, randomUuid());
    tellRunContext([&](const std::string& key, const std::string& value) { addContext(r, key, value); });
}

}  // namespace

Mutex& runMutex() {
    static auto* const mutex = new Mutex;  // never destroyed: threads may outlive it
    return *mutex;
}

void seeToExit() {
    static const int registered = std::atexit(atExit);
    (void)registered;
}

bool chooseClock(const fug_options& options) {
    const bool usesTsc = !options.now && tscIsInvariant();
    __atomic_store_n(&fug_uses_tsc, usesTsc, __ATOMIC_RELAXED);
    recorder().hostNow.store(options.now);
    return usesTsc;
}

int start(const char* path, const fug_options& options, RunBy by, const std::optional<MomentPlan>& moments) {
    stop();
    Recorder& r = recorder();
    const Lock outputGuard(r.outputMutex);
    const std::string file = path ? path : "";
    if (const int error = openOutput(r, file, options, moments)) return error;
    r.runBy.store(by);
    r.background.store(!options.no_background);
    r.recordingNumber.fetch_add(1);
    r.lost.store(0);
    FileHeader header{};
    const double markerCost = writeHeader(r, header, options);
    r.moments.reset();
    if (moments) r.moments = std::make_unique<Moments>(*moments, file, header.nsPerTick);
    beginLanes(r, file, options);
    tellContext(r, markerCost, options);
    r.tellsStacks.store(false);
    r.modules = {};
    if (options.os && !options.now && !options.no_background) {
        r.os = std::make_unique<OsActivity>();
        r.os->start(r, options.os, options.sample_us ? options.sample_us : 1000);
    }
    writeDefinitions(r);
    r.quit.store(false);
    r.active.store(true, std::memory_order_release);
    startBackground(r);
    return 0;
}

int goOnInFile(const char* path) {
    Recorder& r = recorder();
    const Lock guard(r.outputMutex);
    if (!r.active.load() || r.output.state() != RecordingOutput::State::Memory) return ENODATA;
    drain(r, true);
    const Lock lanesGuard(r.lanesMutex);
    DefinitionRecords all = r.lasting;
    all.add(r.ofRecording);
    const int error = r.output.goOnInFile(createRecording(path ? path : "", Existing::Keep), all.records, all.count);
    if (error) return error;
    r.unwritten = {};
    r.path = r.statuses.insert(r.output.path()).first->c_str();
    tellPool(r);
    return 0;
}

void stop() {
    Recorder* made = theRecorder.load(std::memory_order_acquire);
    if (!made) return;
    Recorder& r = *made;
    r.active.store(false, std::memory_order_release);
    r.runBy.store(RunBy::None);
    pthread_t ended[2]{};
    {
        const Lock guard(r.outputMutex);
        std::swap(ended[0], r.thread);
        std::swap(ended[1], r.sweeper);
        r.quit.store(true, std::memory_order_release);
    }
    for (const pthread_t thread : ended)
        if (thread != pthread_t{}) pthread_join(thread, nullptr);
    const Lock guard(r.outputMutex);
    if (r.output.state() == RecordingOutput::State::Closed) return;
    if (r.output.state() == RecordingOutput::State::Memory && !r.lastClockNs) return;  // stopped already
    drain(r, true);
    r.os.reset();
    if (r.moments) r.moments->finish();
    if (!bufferPath(r).empty()) addContext(r, "buffers", "");
    writeDefinitions(r);
    r.output.close();
    r.lastClockNs = 0;
    const Lock lanesGuard(r.lanesMutex);
    r.pool.endRecording();
    if (!r.output.reason().empty()) setStatus(r, r.output.reason());
}

}  // namespace fugato::recording
