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

enum class LaneKind : uint8_t { Thread = 0, Queue = 1, Core = 2 };
enum class WaitKind : uint8_t { Other = 0, Lock, Condition, Job, Gpu, File, Sleep, Pacing };
using layout::ArgumentType;
enum class Severity : uint8_t { Debug = 0, Info, Warning, Error };

const char* waitKindName(WaitKind kind);  // "lock", "gpu", …
const char* severityName(Severity severity);
const char* laneKindName(LaneKind kind);
const char* argumentTypeName(ArgumentType type);  // "integer", "real", "text"

struct LaneDefinition {
    uint32_t id = 0;
    LaneKind kind = LaneKind::Thread;
    uint64_t osId = 0;
    std::string name, role;
};
struct SiteDefinition {
    uint32_t id = 0;
    uint32_t line = 0;
    uint64_t longestNs = 0;
    std::string name, category, description, file;
    uint32_t detail = 0;  // 0 coarse, 1 fine, 2 finest
};
struct SeriesDefinition {
    uint32_t id = 0;
    uint64_t deadlineNs = 0;
    std::string name;
};
struct ObjectDefinition {
    uint32_t id = 0;
    std::string name;
};
struct CounterDefinition {
    uint32_t id = 0;
    std::optional<double> threshold;
    std::string name, unit;
};
struct StateDefinition {
    uint32_t id = 0;
    std::string name;
};
struct ContextDefinition {
    std::string key, value;
};
struct KeyDefinition {  // of arguments
    uint32_t id = 0;
    std::string name;
};
struct PoolDefinition {  // 0 is the program's heap and needs no definition
    uint32_t id = 0;
    std::string name;
};
struct OsThreadDefinition {
    uint32_t id = 0, process = 0;
    std::string name;
};
struct ModuleDefinition {  // code at `address`, from `offset` of the file at `path`
    uint64_t address = 0, bytes = 0, offset = 0;
    std::string path, buildId;
};
/// In the order of layout::DefinitionType, which starts at 1. Clocks and their pairs stay below here.
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

/// Keeps everything it receives, for writing it out in another form.
class EventStore final : public EventSink {
public:
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
