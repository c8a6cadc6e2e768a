// SPDX-License-Identifier: MIT
//
// The recorder's interface: one function for each call. recorder_state.hpp tells which lock guards what.
#include <time.h>

#include <algorithm>
#include <cerrno>
#include <new>

#include "control.hpp"
#include "drain.hpp"
#include "launched.hpp"
#include "moments.hpp"
#include "start_stop.hpp"
#include "this_thread.hpp"

namespace fugato::recording {

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

}  // namespace fugato::recording

using namespace fugato;
using namespace fugato::layout;
using namespace fugato::recording;

namespace {

constexpr size_t kMaxTextBytes = 3200;
constexpr uint32_t kMostPictureWidth = 160, kMostPictureHeight = 100;
constexpr size_t kPicturePieceBytes = 4000;

/// One of the recorder's texts, whose addresses stay valid.
const char* textOf(const char* Recorder::*text) {
    if (inside) return "";
    Recorder& r = recorder();
    const SetUpCall here;
    const Lock guard(r.lanesMutex);
    return r.*text;
}

/// With what a program that was built with an older version does not know.
fug_options chosenFrom(const fug_options* options) {
    fug_options chosen{};
    if (options)
        std::memcpy(&chosen, options, options->size && options->size < sizeof chosen ? options->size : sizeof chosen);
    return chosen;
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

}  // namespace

extern "C" {

__thread fug_buffer* fug_this_buffer = &closedBuffer;
int fug_uses_tsc = 0;

uint64_t fug_now_slow(void) {
    if (Recorder* r = theRecorder.load(std::memory_order_acquire))
        if (auto* now = r->hostNow.load(std::memory_order_relaxed)) return now();
    return monotonicNs();
}

int fug_start(const char* path, const fug_options* options) {
    const fug_options chosen = chosenFrom(options);
    if (isLaunched()) {  // where to, and when, was said by what started the program
        startedByProgram(chosen);
        return 0;
    }
    if (inside) return EINVAL;
    const SetUpCall here;
    try {
        const Lock guard(runMutex());
        std::optional<MomentPlan> moments;
        if (chosen.moments) moments = momentPlanOf(*chosen.moments);
        return start(path, chosen, RunBy::Program, moments);
    } catch (const std::bad_alloc&) {
        return ENOMEM;
    }
}

void fug_stop(void) {
    if (inside || isLaunched()) return;
    const SetUpCall here;
    try {
        const Lock guard(runMutex());
        const Recorder* const r = theRecorder.load(std::memory_order_acquire);
        if (r && r->runBy.load() != RunBy::Client) stop();  // a client's goes on until it leaves
    } catch (const std::bad_alloc&) {
    }
}

int fug_offer(const fug_options* options) {
    if (inside) return EINVAL;
    const SetUpCall here;
    try {
        return offer(chosenFrom(options));
    } catch (const std::bad_alloc&) {
        return ENOMEM;
    }
}

void fug_save_moment(const char* why) {
    if (inside || !fug_recording()) return;
    const SetUpCall here;
    try {
        askForMoment(std::string(nameText(why)));
    } catch (const std::bad_alloc&) {
    }
}

int fug_write_to(const char* path) {
    if (inside) return EINVAL;
    const SetUpCall here;
    try {
        return goOnInFile(path);
    } catch (const std::bad_alloc&) {
        return ENOMEM;
    }
}

int fug_save(const char* path) {
    if (inside || !path) return EINVAL;
    Recorder& r = recorder();
    const SetUpCall here;
    try {
        const Lock guard(r.outputMutex);
        if (r.active.load()) drain(r, true);
        DefinitionRecords all;
        {
            const Lock lanesGuard(r.lanesMutex);
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

void fug_name_thread(const char* name, const char* role, fug_lane_kind kind) {
    if (inside) return;
    nameHere(nameText(name), nameText(role), numberOf(kind));
    onThisLane([](Recorder& r, RecordedLane& lane) { define(viewOf(r, lane)); });
}

void fug_thread_number(uint32_t number) {
    if (inside) return;
    numberHere(number);
    onThisLane([](Recorder& r, RecordedLane& lane) {
        if (&lane == ownLane) define(viewOf(r, lane));
    });
}

void fug_switch(uint32_t thread, int ready) { putPair(Kind::Switch, thread, Room::Ordinary, ready != 0); }

void fug_call_stack(uint32_t thread, const void* const* addresses, size_t count) {
    if (!addresses) return;
    onThisLane([&](Recorder& r, RecordedLane& lane) {
        uint64_t numbers[kMostStack];
        count = std::min(count, kMostStack);
        for (size_t i = 0; i < count; ++i) numbers[i] = reinterpret_cast<uint64_t>(addresses[i]);
        const PackedStack stack(numbers, count);
        const Pair here{0, 0};
        r.tellsStacks.store(true, std::memory_order_relaxed);
        put(r, lane, Room::Ordinary, static_cast<uint8_t>(Kind::Sample), thread, &here, stack.bytes());
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
        const Lock guard(r.lanesMutex);
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
    if (lane->of.load(std::memory_order_acquire) == &r) {
        if (lane->told == r.recordingNumber.load() && lane->lane->own() && r.active.load(std::memory_order_acquire))
            put(r, *lane->lane, Room::Reserved, static_cast<uint8_t>(Kind::LaneEnd), 0);
        lane->lane->ended.store(true, std::memory_order_release);
    }
    const Lock guard(r.lanesMutex);
    std::vector<fug_lane*>& lanes = hostLanes();
    lanes.erase(std::remove(lanes.begin(), lanes.end(), lane), lanes.end());
    delete lane;
}

__attribute__((noinline)) fug_lane* fug_lane_enter(fug_lane* lane) {
    fug_lane* const before = enteredLane;
    enteredLane = lane;
    Recorder* const r = theRecorder.load(std::memory_order_acquire);
    hereLane = !lane ? ownLane : r && lane->of.load(std::memory_order_acquire) == r ? lane->lane : nullptr;
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
    const ClockSyncFields<std::string_view> sync{clock, device_ticks, host_ticks};
    if (!fug_recording()) return define(sync);         // for the next recording
    onThisLane([&](Recorder& r, RecordedLane& lane) {  // the next one will do where there is no room
        (void)defineSoon(r, lane, sync);
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

void fug_declare(fug_site* site) {
    if (!inside && site) declareSite(recorder(), site);
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
    countFrame(series, false);
    putPair(Kind::FrameBegin, series, Room::Ordinary, deadline_ns);
}
void fug_frame_end(uint32_t series) { putHere(Kind::FrameEnd, series, Room::Reserved); }
void fug_frame_tick(uint32_t series, uint64_t deadline_ns) {
    countFrame(series, true);
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
void fug_input(const char* text) { putPair(Kind::Input, 0, Room::Ordinary, 0, 0, cutText(text, kMaxTextBytes)); }
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
