// SPDX-License-Identifier: GPL-3.0-or-later
//
// Builds one lane from its events, mending what does not fit together. Lanes do not depend on each
// other, so several may be built at once, each by one thread; what lanes share (names) is locked in
// Names, what they have in common (locks held, frames, memory…) is gathered afterwards by ModelBuilder.
#pragma once

#include <array>
#include <fugato_mutex.hpp>
#include <limits>
#include <map>
#include <set>
#include <unordered_map>
#include <unordered_set>

#include "marker_row_builder.h"
#include "recording.h"
#include "stack_places.h"

namespace fugato {

/// Markers nested deeper are kept in the last row, one after another: each ends its caller there. So nothing that looks
/// at a recording has to go deeper.
inline constexpr size_t kMostDepth = 1000;
/// No time or duration lies beyond ± 1.1 years, so that sums of hundreds of them cannot overflow.
inline constexpr int64_t kFarthestNs = int64_t{1} << 55;
inline int64_t bounded(int64_t ns) { return std::clamp(ns, -kFarthestNs, kFarthestNs); }
inline int64_t bounded(uint64_t ns) { return static_cast<int64_t>(std::min(ns, static_cast<uint64_t>(kFarthestNs))); }

/// Maps the file's ids to positions in the recording, making a numbered stand-in for one never defined.
/// Thread safe.
class Names {
public:
    explicit Names(Recording& recording) : r_(recording) {}
    void define(const Definition& definition);
    uint32_t lane(uint32_t id);  // not counted as unknown
    /// Gives a lane to each thread of the program that the system named and that has none, where cores are recorded.
    void addSystemLanes();

    enum Kind { Sites, Objects, SeriesKind, Counters, States, Keys, Pools, kKinds };
    /// The position of a thing used by an event.
    uint32_t used(Kind kind, uint32_t id);
    int64_t deadlineOf(uint32_t series);
    /// Running time between two call stacks, where they are taken whenever a thread runs; else 0.
    int64_t samplePeriod();
    /// While it is held nothing changes in the recording's lists of names.
    Mutex& mutex() FUGATO_CHECKED_BY_CLANG(lock_returned(mutex_)) { return mutex_; }

private:
    std::pair<uint32_t, bool> at(Kind kind, uint32_t id) FUGATO_NEEDS(mutex_);
    uint32_t defined(Kind kind, uint32_t id) FUGATO_NEEDS(mutex_);
    void nameIsKnown(Kind kind, uint32_t id) FUGATO_NEEDS(mutex_);

    Mutex mutex_;  // guards the lists of names in the recording, too
    Recording& r_;
    std::array<std::unordered_map<uint32_t, uint32_t>, kKinds> positions_ FUGATO_GUARDED_BY(mutex_);
    std::unordered_map<uint32_t, uint32_t> lanes_ FUGATO_GUARDED_BY(mutex_);
    std::vector<int64_t> deadlines_ FUGATO_GUARDED_BY(mutex_);
    // Ids that were used and are not defined yet.
    std::set<std::pair<Kind, uint32_t>> standIns_ FUGATO_GUARDED_BY(mutex_);
};

/// What a lane tells that belongs to more than this lane, in the order told. Paths are the lane's own.
struct LaneFinds {
    struct InObject {
        uint32_t object;
        Hold hold;
    };
    struct InSeries {
        uint32_t series;
        Frame frame;
    };
    struct Count {
        uint32_t counter;
        int64_t time;
        double value;
    };
    struct Set {
        uint32_t state;
        int64_t time;
        TextRef value;
    };
    struct OperationEvent {
        EventKind kind;
        uint32_t site;
        uint64_t number;
        int64_t time, code;
        PathId path;
        TextRef text;
    };
    struct MemoryChange {
        int64_t time;
        bool taken;
        uint32_t pool, lane;
        uint64_t address, bytes;
        PathId path;
        TextRef name;
    };
    struct CoreEvent {
        int64_t time;
        uint32_t core, thread;
        bool readyBefore;             // the thread that had the core is still ready to run
        uint32_t wokenBy = kNoWaker;  // else the thread was woken, by this one (0: by the system itself)
        bool ended = false;           // the thread, which had the core, has ended
    };
    static constexpr uint32_t kNoWaker = 0xffffffff;

    std::vector<InObject> holds;
    std::vector<InSeries> frames;
    std::vector<Count> counts;
    std::vector<Set> states;
    std::vector<Point> points;
    std::vector<Recording::LinkSource> linkSources;
    std::vector<OperationEvent> operations;
    std::vector<MemoryChange> memory;
    std::vector<CoreEvent> coreEvents;
    std::vector<StackSample> samples, stops;  // `first` counts in stackAddresses here
    std::vector<uint64_t> stackAddresses;
    StackPlaces stackPlaces;                             // in these
    std::vector<std::pair<uint32_t, Picture>> pictures;  // by number
};

class LaneBuilder {
public:
    LaneBuilder(Names& names, Storage& storage, uint32_t position);
    void events(std::span<const Event> events);
    /// Ends what is still open and puts the lane's columns into the storage. No events after it.
    void close();
    /// The clock is known better than when the last event was read: what seems to lie before that is moved without a
    /// word.
    void clockRefined() { refined_ = last_; }

    /// Fills what the events told of the lane; after close(). Its paths are still to be set.
    void fill(Lane& lane) const { fill(lane, closed_); }
    /// The same before close(): what is open lasts to the last event. What is not shared with the lanes of other
    /// such moments lies in `arena`.
    void fillAsItIs(Lane& lane, Arena& arena);
    /// Links that came in, whose paths are told by their numbers in the recording from now on. `paths`: these by the
    /// lane's own, which only become more.
    template <class Place>
    Column<LinkEnd> linkIns(const Column<PathId>& paths, Place& place) {
        for (LinkEnd& link : linkIns_.tail()) link.path = paths[link.path];
        return linkIns_.column(place, linkIns_.size());
    }
    /// How long the lane was idle on purpose (pacing) from `begin` to `end`. Looks back from the last wait.
    int64_t pacingIn(int64_t begin, int64_t end) const;
    /// Locks that are still held, as if they were given back with the last event.
    std::vector<LaneFinds::InObject> heldNow() const;
    bool any() const { return any_; }
    const PathTable& paths() const { return paths_; }
    const Repairs& repairs() const { return repairs_; }
    /// How many markers of each site (by position) were never ended.
    const std::unordered_map<uint32_t, uint64_t>& neverEnded() const { return neverEnded_; }
    /// What was told so far. Whoever gathers it takes it out.
    LaneFinds& finds() { return finds_; }
    const LaneFinds& finds() const { return finds_; }

private:
    struct Open {
        uint32_t index;
        uint32_t path;
        uint32_t wait;  // position in waits_, or kNone for a marker
        bool insideWait;
        bool cut = false;  // lies too deep, and another lies in it: ended already
    };
    struct OpenHold {
        int64_t begin;
        PathId path;
    };
    struct OpenFrame {
        int64_t begin, deadline;
        bool ticked;   // begun by a tick: only the next tick can end it
        size_t depth;  // so many markers were open then
    };
    /// What was begun in a frame and is still open after its end may yet be ended. Once something new begins, its end
    /// was lost, and it ended with the frame: else every later end would close the wrong marker.
    struct LeftOpen {
        bool any = false;
        size_t depth = 0;
        int64_t time = 0;
    };
    struct PicturePieces {
        Picture picture;
        std::string pixels;  // from the first row on, as far as told
    };
    struct Closed {
        std::vector<MarkerRow::Parts> rows;
        Column<Wait> waits;
        Column<Lane::Blocked> blocked;
        Column<LostEvents> lost;
        std::vector<Column<Argument>> arguments;
    };

    void event(const Event& event);
    uint32_t used(Names::Kind kind, uint32_t id) {
        const auto& known = known_[kind].positions;
        if (id >= known.size()) return lookUp(kind, id);
        return known[id] != kNone ? known[id] : lookUp(kind, id);
    }
    static size_t rowAt(size_t depth) { return std::min(depth, kMostDepth - 1); }
    uint32_t lookUp(Names::Kind kind, uint32_t id);
    /// Keeps a text as it may be shown.
    TextRef shown(std::string_view text);
    PathId path() const { return open_.empty() ? 0 : open_.back().path; }
    void beginMarker(uint32_t site, int64_t time, uint32_t wait);
    void closeLeftOpen();
    void makeRow(int64_t time);
    void endMarker(int64_t time);
    void endUntold(int64_t time);
    void endOf(const Event& event, int64_t time);
    void take(const Event& event, int64_t time, int64_t before);
    void takeOfCore(const Event& event, int64_t time);
    void lose(const Event& event, int64_t time, int64_t before);
    void give(uint32_t object, int64_t time);
    void giveAll(int64_t time);
    void beginFrame(const Event& event, int64_t time, bool tick);
    void endFrame(uint32_t series, int64_t time);
    void dropFrames();
    void argument(const Event& event);
    void picturePiece(const Event& event, int64_t time);
    void sample(const Event& event, int64_t time);
    void onCoreUntil(int64_t time);
    void settle(uint32_t number, PicturePieces& pieces);
    void fill(Lane& lane, const Closed& closed) const;
    template <class Place>
    void putLists(Closed& closed, Place& place, size_t settledWaits);

    Names& names_;
    Storage& storage_;
    TextWriter texts_;
    const uint32_t position_;
    /// Of a core: the thread that has it, and until when it is known to have run.
    struct OnCore {
        uint32_t thread = layout::kUnknownThread;
        int64_t ran = 0;
        std::unordered_set<uint32_t> sampled;  // threads of which call stacks are taken
    } onCore_;
    struct Known {
        std::vector<uint32_t> positions;  // by id
        size_t lookedUp = 0;
    };
    Known known_[Names::kKinds];
    bool any_ = false, onlyCounts_ = true, isClosed_ = false;
    int64_t first_ = 0, last_ = 0, refined_ = std::numeric_limits<int64_t>::min();
    PathTable paths_;
    std::vector<MarkerRowBuilder> rows_;
    std::vector<Open> open_;
    std::unordered_map<uint32_t, std::vector<OpenHold>> holds_;  // by object, innermost last
    std::unordered_map<uint32_t, OpenFrame> frames_;             // by series
    std::set<uint32_t> framesMet_;                               // series
    LeftOpen leftOpen_;
    bool afterGap_ = false;                 // ends may belong to begins in it
    size_t lateEnds_ = 0, frameDepth_ = 0;  // ends that may still come for what was closed so; of the open frame
    GrowingList<Wait> waits_;
    std::vector<bool> waitInside_;  // by wait: lies in another
    GrowingList<Lane::Blocked> blocked_;
    size_t blockedOf_ = 0;          // so many waits are settled there
    GrowingList<LinkEnd> linkIns_;  // the paths of those that are settled are the recording's
    GrowingList<LostEvents> lost_;
    std::vector<GrowingList<Argument>> arguments_;  // by row
    std::map<uint32_t, PicturePieces> pictures_;
    LaneFinds finds_;
    std::vector<uint64_t> stack_;  // the one that is read
    Repairs repairs_;
    std::unordered_map<uint32_t, uint64_t> neverEnded_;  // markers by site

    Closed closed_;
};

}  // namespace fugato
