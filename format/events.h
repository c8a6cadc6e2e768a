// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a recording says, one definition or event at a time, whatever form it was stored in.
// Times are integer nanoseconds since the recording's start. Texts are valid UTF-8.
#pragma once

#include <cstdint>
#include <deque>
#include <fugato_layout.hpp>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace fugato {

using EventKind = layout::Kind;

using layout::ArgumentType;
using layout::LaneKind;
using layout::Severity;
using layout::WaitKind;
using layout::wordOf;  // "lock", "gpu", "warning"…

// What each holds: fugato_schema.hpp.
using LaneDefinition = layout::LaneFields<std::string>;
using SiteDefinition = layout::SiteFields<std::string>;
using SeriesDefinition = layout::SeriesFields<std::string>;
using ObjectDefinition = layout::ObjectFields<std::string>;
using CounterDefinition = layout::CounterFields<std::string>;
using StateDefinition = layout::StateFields<std::string>;
using ContextDefinition = layout::ContextFields<std::string>;
using KeyDefinition = layout::KeyFields<std::string>;
using PoolDefinition = layout::PoolFields<std::string>;
using OsThreadDefinition = layout::OsThreadFields<std::string>;
using ModuleDefinition = layout::ModuleFields<std::string>;
/// Clocks and their pairs stay below here: a lane's clock is the recording's, and times are nanoseconds.
using Definition =
    std::variant<LaneDefinition, SiteDefinition, SeriesDefinition, ObjectDefinition, CounterDefinition, StateDefinition,
                 ContextDefinition, KeyDefinition, PoolDefinition, OsThreadDefinition, ModuleDefinition>;

/// One event. The meaning of id, a, b and text follows the kind, as listed at layout::Kind. The
/// text belongs to whoever hands the event over and is valid during the call only.
struct Event {
    int64_t time = 0;
    EventKind kind{};
    uint32_t id = 0;
    uint64_t a = 0;
    uint64_t b = 0;
    std::string_view text;
};

/// Receives a recording: every definition before the first event; the events of one lane in the order
/// in which they were recorded, those of different lanes in any order. (In the text form a definition
/// stands before its first use.)
class EventSink {
public:
    virtual ~EventSink() = default;
    virtual void started(int64_t unixNs) = 0;  // wall clock at time 0; 0: not known
    virtual void define(const Definition& definition) = 0;
    virtual void event(uint32_t lane, const Event& event) = 0;
};

/// What was wrong with a file that could be read all the same.
struct Damage {
    std::vector<std::string> notes;  // sentences, most important first; at most kMostNotes
    uint64_t lostBlocks = 0;
    uint64_t lostEvents = 0;  // known to have been in lost blocks
    uint64_t wrongLines = 0;
    bool indexMissing = false;

    static constexpr size_t kMostNotes = 20;
    void note(std::string sentence) {
        if (notes.size() < kMostNotes) notes.push_back(std::move(sentence));
    }
    bool any() const { return !notes.empty(); }
};

/// Told how far a long piece of work is, 0 to 1; returns false to cancel it. May be empty.
using Progress = std::function<bool(double)>;

/// Keeps everything it receives, for writing it out in another form. Events refer to texts that lie here: it can be
/// moved, not copied.
class EventStore final : public EventSink {
public:
    EventStore() = default;
    EventStore(EventStore&&) = default;
    EventStore& operator=(EventStore&&) = default;
    void started(int64_t unixNs) override { startedUnixNs = unixNs; }
    void define(const Definition& definition) override { definitions.push_back(definition); }
    void event(uint32_t lane, const Event& event) override;

    int64_t startedUnixNs = 0;
    std::vector<Definition> definitions;
    std::map<uint32_t, std::vector<Event>> lanes;

    /// Calls `visit` with every event in one order of time over all lanes; each lane keeps its own
    /// order even where its times run backwards.
    void inTimeOrder(const std::function<bool(uint32_t lane, const Event&)>& visit) const;
    size_t eventCount() const;

private:
    std::deque<std::string> texts_;
};

bool isUtf8(std::string_view text);
/// The text with every byte sequence that is not UTF-8 replaced by U+FFFD.
std::string cleanUtf8(std::string_view text);

}  // namespace fugato
