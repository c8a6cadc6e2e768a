// SPDX-License-Identifier: MIT
//
// What the parts of the recorder share. A thread writes its lane's ring without locks. Two mutexes,
// always taken in this order:
//   outputMutex  the file and everything the drain keeps; held while writing to the disk. No recorded
//                thread takes it, but for [set-up] functions and where there is no background thread.
//   lanesMutex   the lists of lanes and definitions and the buffer pool; held for moments only.
#pragma once

#include <fugato/fugato.h>
#include <pthread.h>

#include <atomic>
#include <fugato_mutex.hpp>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "buffer_pool.hpp"
#include "call_stacks.hpp"
#include "recording_output.hpp"
#include "set_up_call.hpp"

namespace fugato::recording {

class OsActivity;
class Moments;

/// Who began what is recorded now.
enum class RunBy : int { None, Program, Plan, Client };

inline constexpr size_t kPendingBytes = layout::kBlockBytes + layout::kMostSlotText + 1024;

/// Where one stream of events comes from: a thread, a lane of the host's own, or the operating system.
struct RecordedLane {
    // The owner's: the thread that is in the lane. The drain reads `entry` too.
    std::atomic<layout::BufferEntry*> entry{nullptr};
    uint64_t beginLimit = 0, endLimit = 0;
    uint64_t givenTime = 0;
    bool timeGiven = false;
    volatile bool writing = false;  // an event told meanwhile comes from a signal handler

    std::atomic<bool> ended{false};
    std::atomic<uint64_t> lostWithoutBuffer{0};
    /// A buffer for a lane that could not have one before; its owner takes it at its next event.
    std::atomic<layout::BufferEntry*> offered{nullptr};
    std::atomic<bool> wantsBuffer{false};  // not a lane of the background thread's own
    // Guarded by lanesMutex:
    uint32_t id = 0;
    uint64_t osId = 0;
    uint32_t hostNumber = 0;  // by which a scheduler of the host's own knows the thread; 0: none
    uint32_t clock = 0;
    uint32_t kind = 0;
    std::string name, role;
    fug_buffer noBuffer{};  // stands in where the pool is used up: limits 0
    // The drain's:
    uint64_t collected = 0;
    std::unique_ptr<char[]> pending;
    size_t pendingBytes = 0;
    uint32_t pendingCount = 0;
    uint64_t pendingFirst = 0, pendingLast = 0, pendingSince = 0;

    /// Whether events bear the time given, not that of now. A device's clock has no now here: what is
    /// told without a time bears the last one given.
    bool hasOwnTime() const { return timeGiven || clock >= layout::kFirstOwnClock; }
    layout::BufferEntry* own() const { return entry.load(std::memory_order_acquire); }
    fug_buffer* buffer() {
        layout::BufferEntry* const mine = own();
        return mine ? reinterpret_cast<fug_buffer*>(mine) : &noBuffer;
    }
};

struct DefinitionRecords {
    std::string records;
    uint32_t count = 0;
    void add(layout::DefinitionType type, std::string_view fields) {
        layout::appendDefinition(records, type, fields);
        ++count;
    }
    void add(const DefinitionRecords& more) {
        records += more.records;
        count += more.count;
    }
};

/// Which markers of a category are recorded; an immutable list that is replaced as a whole.
struct DetailSettings {
    std::map<std::string, int, std::less<>> levels;
    int otherwise = 2;
    int of(std::string_view category) const {
        const auto found = levels.find(category);
        return found == levels.end() ? otherwise : found->second;
    }
};

struct KnownSite {
    uint64_t word;
    const char* namePointer;
    std::string category;
    uint32_t detail;
};

struct Recorder {
    std::atomic<bool> active{false};
    std::atomic<uint64_t> lost{0};
    std::atomic<uint64_t> nextLink{1}, nextOperation{1};
    std::atomic<uint32_t> nextLane{1}, nextSite{1}, nextSeries{1}, nextObject{1}, nextCounter{1}, nextState{1},
        nextKey{1}, nextPool{1}, nextClock{layout::kFirstOwnClock}, nextPicture{1};
    std::atomic<uint64_t (*)()> hostNow{nullptr};
    std::atomic<const DetailSettings*> details{nullptr};  // null: everything; older ones are kept
    std::atomic<bool> background{true};
    std::atomic<uint32_t> backgroundId{0};  // the background thread's number in the system
    std::atomic<uint32_t> recordingNumber{0};
    std::atomic<RunBy> runBy{RunBy::None};
    std::atomic<bool> tellsStacks{false};  // there are call stacks in this recording

    Mutex outputMutex;
    RecordingOutput output FUGATO_GUARDED_BY(outputMutex);
    std::unique_ptr<OsActivity> os FUGATO_GUARDED_BY(outputMutex);
    std::unique_ptr<Moments> moments FUGATO_GUARDED_BY(outputMutex);  // null: everything is written
    ProgramModules modules FUGATO_GUARDED_BY(outputMutex);
    uint64_t originTicks FUGATO_GUARDED_BY(outputMutex) = 0, originNs FUGATO_GUARDED_BY(outputMutex) = 0,
                         lastClockNs FUGATO_GUARDED_BY(outputMutex) = 0;
    double nsPerTick FUGATO_GUARDED_BY(outputMutex) = 1;
    int64_t startedUnixNs FUGATO_GUARDED_BY(outputMutex) = 0;
    bool toldFailure FUGATO_GUARDED_BY(outputMutex) = false;
    pthread_t thread FUGATO_GUARDED_BY(outputMutex){}, sweeper FUGATO_GUARDED_BY(outputMutex){};
    // Where programs that were killed may have left buffers.
    std::vector<std::string> sweptFolders FUGATO_GUARDED_BY(outputMutex);
    std::atomic<bool> quit{false};

    Mutex lanesMutex;
    BufferPool pool FUGATO_GUARDED_BY(lanesMutex);
    std::vector<RecordedLane*> lanes FUGATO_GUARDED_BY(lanesMutex);
    // Sites, series…: they hold for every recording of this process; lanes, modules…: this recording's own.
    DefinitionRecords lasting FUGATO_GUARDED_BY(lanesMutex), ofRecording FUGATO_GUARDED_BY(lanesMutex);
    DefinitionRecords unwritten FUGATO_GUARDED_BY(lanesMutex);  // of both, not yet in the file
    std::map<fug_site*, KnownSite> sites FUGATO_GUARDED_BY(lanesMutex);
    std::vector<std::unique_ptr<const DetailSettings>> allDetails FUGATO_GUARDED_BY(lanesMutex);
    uint64_t bufferSlots FUGATO_GUARDED_BY(lanesMutex) = 0;
    uint64_t lastOfferNs FUGATO_GUARDED_BY(lanesMutex) = 0;
    std::string toldTrouble FUGATO_GUARDED_BY(lanesMutex);         // with the buffers, in this recording
    std::set<std::string> statuses FUGATO_GUARDED_BY(lanesMutex);  // their addresses stay valid
    const char* status FUGATO_GUARDED_BY(lanesMutex) = "";
    const char* path FUGATO_GUARDED_BY(lanesMutex) = "";
    std::string program FUGATO_GUARDED_BY(lanesMutex), build FUGATO_GUARDED_BY(lanesMutex);  // as it said last
    // Of each device's clock the last: its ticks, ours.
    std::map<uint32_t, std::pair<uint64_t, uint64_t>> clockSyncs FUGATO_GUARDED_BY(lanesMutex);
    std::map<uint32_t, uint64_t> deadlines FUGATO_GUARDED_BY(lanesMutex);  // of series, in nanoseconds; 0: none
    std::string askedToSave FUGATO_GUARDED_BY(lanesMutex);                 // why; empty: not
};

/// The process's recorder, made at its first use; after a fork the child's own.
Recorder& recorder();
extern std::atomic<Recorder*> theRecorder;  // null: none was needed yet

uint64_t monotonicNs();

/// Of an enumeration of the interface, whatever number the caller has put there.
template <class Enumeration>
uint32_t numberOf(const Enumeration& value) {
    static_assert(sizeof value == sizeof(uint32_t));
    uint32_t number = 0;
    std::memcpy(&number, &value, sizeof number);
    return number;
}

/// The text, cut at a whole character within `most` bytes; null counts as empty.
std::string_view cutText(const char* text, size_t most);

/// For the drain: a lane without a buffer, for events of the background thread's own.
RecordedLane* makeOwnLane(Recorder& r, const char* name, const char* role, uint32_t kind, uint64_t osId,
                          uint32_t clock);
/// For the drain: adds an event to what the lane has to write.
void addEvent(Recorder& r, RecordedLane& lane, const layout::RawEvent& event, uint64_t now) FUGATO_NEEDS(r.outputMutex);
/// For the drain: adds a definition of this recording.
void addDefinition(Recorder& r, layout::DefinitionType type, std::string_view fields);
template <class Definition>
void addDefinition(Recorder& r, const Definition& definition) {
    addDefinition(r, Definition::kType, layout::fieldsOf(definition));
}
void addContext(Recorder& r, std::string_view key, std::string_view value);

}  // namespace fugato::recording
