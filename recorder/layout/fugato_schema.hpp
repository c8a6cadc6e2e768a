// SPDX-License-Identifier: MIT
//
// What a recording can say, once: the kinds of events and definitions, what their numbers and texts mean, and the
// words they have in the text form. The binary form, the text form, the packed form, the buffers, the demo's own
// writer and the tables in docs/ come from here; a new event is a line in kEvents. Nothing here allocates or throws.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <iterator>
#include <optional>
#include <string_view>
#include <type_traits>

namespace fugato::layout {

// ---- definitions ---------------------------------------------------------------------------------

/// The type of a definition record, and what an event's id is the id of.
enum class DefinitionType : uint8_t {
    Lane = 1,
    Site = 2,
    Series = 3,
    Object = 4,
    Counter = 5,
    State = 6,
    Context = 7,
    Key = 8,
    Pool = 9,
    OsThread = 10,
    Module = 11,
    Clock = 12,
    ClockSync = 13,
};

enum class LaneKind : uint8_t { Thread = 0, Queue = 1, Core = 2 };
enum class WaitKind : uint8_t { Other = 0, Lock, Condition, Job, Gpu, File, Sleep, Pacing };
enum class Severity : uint8_t { Debug = 0, Info, Warning, Error };
enum class ArgumentType : uint8_t { Integer = 0, Real = 1, Text = 2 };

/// The words of such a number, in its order.
template <class Enum>
inline constexpr std::string_view kWords[1] = {};
template <>
inline constexpr std::string_view kWords<LaneKind>[] = {"thread", "queue", "core"};
template <>
inline constexpr std::string_view kWords<WaitKind>[] = {"other", "lock", "condition", "job",
                                                        "gpu",   "file", "sleep",     "pacing"};
template <>
inline constexpr std::string_view kWords<Severity>[] = {"debug", "info", "warning", "error"};
template <>
inline constexpr std::string_view kWords<ArgumentType>[] = {"integer", "real", "text"};
/// The word of a number as it was read; the first one where it has none.
template <class Enum>
constexpr std::string_view wordOf(Enum value) {
    return kWords<Enum>[static_cast<size_t>(value) < std::size(kWords<Enum>) ? static_cast<size_t>(value) : 0];
}

/// Clocks a lane's ticks may be of: the recording's own, nanoseconds since time 0, or one that a
/// Clock definition describes.
inline constexpr uint32_t kRecordingClock = 0, kNanosecondClock = 1, kFirstOwnClock = 2;

// Each definition tells its fields, in the order in which they are stored, to a visitor: name in the text form, value,
// meaning. A field without a name is not in the text form. `Text` is std::string or std::string_view.

template <class Text>
struct LaneFields {
    static constexpr DefinitionType kType = DefinitionType::Lane;
    static constexpr const char* kName = "lane";
    uint32_t id = 0;
    LaneKind kind = LaneKind::Thread;
    uint64_t osId = 0;
    Text name{}, role{};
    uint32_t clock = kRecordingClock;  // of its ticks; above format/ times are nanoseconds
    Text program{};                    // where the recording holds several
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "id");
        visit("kind", self.kind, "kind");
        visit("os", self.osId, "thread of the operating system (of a core: its number) or 0");
        visit("name", self.name, "name");
        visit("role", self.role, "role");
        visit("", self.clock, "clock");
        visit("program", self.program, "its program where the recording holds several, else empty");
    }
};

template <class Text>
struct SiteFields {
    static constexpr DefinitionType kType = DefinitionType::Site;
    static constexpr const char* kName = "site";
    uint32_t id = 0, line = 0;
    uint64_t longestNs = 0;
    Text name{}, category{}, description{}, file{};
    uint32_t detail = 0;  // 0 coarse, 1 fine, 2 finest
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "id");
        visit("line", self.line, "source line");
        visit("longest_ns", self.longestNs, "expected longest duration in ns or 0");
        visit("name", self.name, "name");
        visit("category", self.category, "category");
        visit("description", self.description, "description");
        visit("file", self.file, "source file");
        visit("detail", self.detail, "detail (0 coarse, 1 fine, 2 finest)");
    }
};

template <class Text>
struct SeriesFields {
    static constexpr DefinitionType kType = DefinitionType::Series;
    static constexpr const char* kName = "series";
    uint32_t id = 0;
    uint64_t deadlineNs = 0;
    Text name{};
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "id");
        visit("deadline_ns", self.deadlineNs, "deadline in ns or 0");
        visit("name", self.name, "name");
    }
};

template <class Text>
struct CounterFields {
    static constexpr DefinitionType kType = DefinitionType::Counter;
    static constexpr const char* kName = "counter";
    uint32_t id = 0;
    std::optional<double> threshold;
    Text name{}, unit{};
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "id");
        visit("threshold", self.threshold, "threshold");
        visit("name", self.name, "name");
        visit("unit", self.unit, "unit");
    }
};

/// What has an id and a name, and nothing else.
template <DefinitionType type, class Text>
struct NamedFields {
    static constexpr DefinitionType kType = type;
    static constexpr const char* kName = type == DefinitionType::Object  ? "object"
                                         : type == DefinitionType::State ? "state"
                                         : type == DefinitionType::Key   ? "key"
                                                                         : "pool";
    uint32_t id = 0;
    Text name{};
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "id");
        visit("name", self.name, "name");
    }
};
template <class Text>
using ObjectFields = NamedFields<DefinitionType::Object, Text>;
template <class Text>
using StateFields = NamedFields<DefinitionType::State, Text>;
template <class Text>
using KeyFields = NamedFields<DefinitionType::Key, Text>;  // of arguments
template <class Text>
using PoolFields = NamedFields<DefinitionType::Pool, Text>;  // 0 is the program's heap and needs no definition

template <class Text>
struct ContextFields {
    static constexpr DefinitionType kType = DefinitionType::Context;
    static constexpr const char* kName = "context";
    Text key{}, value{};  // an empty value takes the key away
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("key", self.key, "key");
        visit("value", self.value, "value; an empty one takes the key away");
    }
};

template <class Text>
struct OsThreadFields {
    static constexpr DefinitionType kType = DefinitionType::OsThread;
    static constexpr const char* kName = "os_thread";
    uint32_t id = 0, process = 0;
    Text name{};
    uint32_t system = 0;
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "thread of the operating system");
        visit("process", self.process, "its process");
        visit("name", self.name, "name");
        visit("system", self.system, "1 where it is a thread of the system's own, and no program");
    }
};

/// Code of the program at `address`, from `offset` of the file at `path`.
template <class Text>
struct ModuleFields {
    static constexpr DefinitionType kType = DefinitionType::Module;
    static constexpr const char* kName = "module";
    uint64_t address = 0, bytes = 0, offset = 0;
    Text path{}, buildId{};
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("address", self.address, "address of code of the program");
        visit("bytes", self.bytes, "its bytes");
        visit("offset", self.offset, "its offset in its file");
        visit("path", self.path, "the file");
        visit("build_id", self.buildId, "build id in hexadecimal");
    }
};

template <class Text>
struct ClockFields {
    static constexpr DefinitionType kType = DefinitionType::Clock;
    static constexpr const char* kName = "clock";
    uint32_t id = 0;
    double nsPerTick = 1;
    Text name{};
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("id", self.id, "id");
        visit("ns_per_tick", self.nsPerTick, "bits of a double: nanoseconds per tick");
        visit("name", self.name, "name");
    }
};

template <class Text>
struct ClockSyncFields {
    static constexpr DefinitionType kType = DefinitionType::ClockSync;
    static constexpr const char* kName = "clock_sync";
    uint32_t clock = 0;
    uint64_t deviceTicks = 0, hostTicks = 0;
    template <class Self, class Visit>
    static void fields(Self& self, Visit&& visit) {
        visit("clock", self.clock, "clock");
        visit("device_ticks", self.deviceTicks, "its ticks");
        visit("host_ticks", self.hostTicks, "the recording's ticks at the same instant");
    }
};

/// Hands the fields of a definition to `out`, which has number(uint64_t) and text(std::string_view).
template <class Out, class Definition>
void putFields(Out& out, const Definition& definition) {
    const auto bitsOf = [](double value) {
        uint64_t bits = 0;
        std::memcpy(&bits, &value, sizeof bits);
        return bits;
    };
    const auto put = [&](const char*, const auto& value, const char*) {
        using Value = std::decay_t<decltype(value)>;
        if constexpr (std::is_same_v<Value, std::optional<double>>) {
            out.number(value.has_value());
            out.number(value ? bitsOf(*value) : 0);
        } else if constexpr (std::is_same_v<Value, double>) {
            out.number(bitsOf(value));
        } else if constexpr (std::is_integral_v<Value> || std::is_enum_v<Value>) {
            out.number(static_cast<uint64_t>(value));
        } else {
            out.text(value);
        }
    };
    Definition::fields(definition, put);
}

/// Takes the fields of a definition from `in`, whose number() and text() give 0 and "" where nothing is left.
template <class Definition, class In>
Definition getFields(In in) {
    const auto realOf = [](uint64_t bits) {
        double value = 0;
        std::memcpy(&value, &bits, sizeof value);
        return value;
    };
    const auto get = [&](const char*, auto& value, const char*) {
        using Value = std::decay_t<decltype(value)>;
        if constexpr (std::is_same_v<Value, std::optional<double>>) {
            const bool has = in.number() == 1;
            const double told = realOf(in.number());
            if (has) value = told;
        } else if constexpr (std::is_same_v<Value, double>) {
            value = realOf(in.number());
        } else if constexpr (std::is_enum_v<Value>) {
            const uint64_t told = in.number();
            value = static_cast<Value>(told < std::size(kWords<Value>) ? told : std::size(kWords<Value>) - 1);
        } else if constexpr (std::is_integral_v<Value>) {
            value = static_cast<Value>(in.number());
        } else {
            value = in.text();
        }
    };
    Definition definition;
    Definition::fields(definition, get);
    return definition;
}

// ---- events --------------------------------------------------------------------------------------

/// What an event says; also the low 8 bits of a slot's word in the recorder's buffers.
enum class Kind : uint8_t {
    MarkBegin = 1,
    MarkEnd,
    FrameBegin,
    FrameEnd,
    Count,
    Point,
    WaitBegin,
    WaitEnd,
    Taken,
    Given,
    LinkOut,
    LinkIn,
    StateSet,
    Lost,
    LaneEnd,
    Argument,
    Outcome,
    OperationBegin,
    OperationStep,
    OperationEnd,
    MemoryTaken,
    MemoryGiven,
    Picture,
    FrameTick,
    PointCode,
    Switch,
    Sample,
    WakeUp,
    Input,
    ThreadEnd,
};

/// Threads that a Switch names without their number.
inline constexpr uint32_t kIdleThread = 0, kUnknownThread = 0xffffffff;

/// How one of an event's values (id, a, b, text) is to be read.
enum class ValueKind : uint8_t {
    None,
    Id,      // of a definition
    Number,  //
    Signed,  // stored as zigzag
    Real,    // the bits of a double
    Flag,    // 1: true
    Severity,
    WaitKind,
    Size,     // width · 2^32 + height; in the text form two numbers
    AsTyped,  // as b says, which is an ArgumentType; where that is Text, the event's text is the value
    TypeOfA,  // that type
    Text,
    Bytes,  // in the text form as hexadecimal digits
};

struct EventValue {
    ValueKind kind = ValueKind::None;
    const char* name = "";     // in the text form
    const char* meaning = "";  // in docs/recording-format.md
    bool optional = false;     // may be left out of the text form: 0, false, or empty
    DefinitionType of{};       // Id: of what
};

struct EventSchema {
    Kind kind{};
    const char* name = "";  // in docs/
    const char* word = "";  // "do" in the text form
    const char* meaning = "";
    EventValue id, a, b, text;
};

namespace schema {
constexpr EventValue idOf(DefinitionType of, const char* name) { return {ValueKind::Id, name, name, false, of}; }
constexpr EventValue must(ValueKind kind, const char* name, const char* meaning) {
    return {kind, name, meaning, false, {}};
}
constexpr EventValue may(ValueKind kind, const char* name, const char* meaning) {
    return {kind, name, meaning, true, {}};
}

inline constexpr EventValue kSite = idOf(DefinitionType::Site, "site");
inline constexpr EventValue kSeries = idOf(DefinitionType::Series, "series");
inline constexpr EventValue kObject = idOf(DefinitionType::Object, "object");
inline constexpr EventValue kSeverity =
    may(ValueKind::Severity, "severity", "severity: 0 debug, 1 info, 2 warning, 3 error");
inline constexpr EventValue kDeadline = may(ValueKind::Number, "deadline_ns", "deadline in ns, 0 for the series' own");
inline constexpr EventValue kLink = must(ValueKind::Number, "link", "link");
inline constexpr EventValue kOperation = must(ValueKind::Number, "operation", "the operation's number");
inline constexpr EventValue kPool{ValueKind::Id, "pool", "pool", true, DefinitionType::Pool};
inline constexpr EventValue kAddress = must(ValueKind::Number, "address", "address");
}  // namespace schema

/// In the order of Kind: kind, name in docs/, word in the text form, what it says, then id, a, b and text. Below 16 an
/// event adds just the values that are named here; from 16 on it is followed by a byte count, then a, b and the text,
/// so that readers can skip what they do not know.
// clang-format off
inline constexpr EventSchema kEvents[] = {
    {Kind::MarkBegin, "MarkBegin", "begin", "a marker begins", schema::kSite, {}, {}, {}},
    {Kind::MarkEnd, "MarkEnd", "end", "the innermost marker ends", {}, {}, {}, {}},
    {Kind::FrameBegin, "FrameBegin", "frame", "a frame begins", schema::kSeries, schema::kDeadline, {}, {}},
    {Kind::FrameEnd, "FrameEnd", "frame_end", "and ends", schema::kSeries, {}, {}, {}},
    {Kind::Count, "Count", "count", "a counter's new value",
        schema::idOf(DefinitionType::Counter, "counter"), schema::must(ValueKind::Real, "value", "the value"), {}, {}},
    {Kind::Point, "Point", "point", "something happened",
        schema::kSeverity, {}, {}, schema::may(ValueKind::Text, "text", "what")},
    {Kind::WaitBegin, "WaitBegin", "wait", "the lane is blocked from here on",
        schema::kObject, schema::kSite, schema::may(ValueKind::WaitKind, "kind", "kind of wait"), {}},
    {Kind::WaitEnd, "WaitEnd", "wait_end", "until here",
        {}, schema::may(ValueKind::Number, "link", "the link that ended it, 0 where it is not known"), {}, {}},
    {Kind::Taken, "Taken", "taken", "the lane has acquired a lock", schema::kObject, {}, {}, {}},
    {Kind::Given, "Given", "given", "the lane has released a lock", schema::kObject, {}, {}, {}},
    {Kind::LinkOut, "LinkOut", "link_out", "a link leads from here", {}, schema::kLink, {}, {}},
    {Kind::LinkIn, "LinkIn", "link_in", "to here; to any number of places", {}, schema::kLink, {}, {}},
    {Kind::StateSet, "StateSet", "state", "a state changes; the one named `stage` holds the program's stages",
        schema::idOf(DefinitionType::State, "state"), {}, {}, schema::may(ValueKind::Text, "value", "the new value")},
    {Kind::Lost, "Lost", "lost", "events are missing before this one",
        {}, schema::must(ValueKind::Number, "events", "how many"),
        schema::may(ValueKind::Flag, "broken", "1 where ends may be among them"), {}},
    {Kind::LaneEnd, "LaneEnd", "lane_end", "the thread ended", {}, {}, {}, {}},
    {Kind::Argument, "Argument", "argument", "of the innermost open marker",
        schema::idOf(DefinitionType::Key, "key"),
        schema::must(ValueKind::AsTyped, "value", "zigzag integer, or bits of a double"),
        schema::must(ValueKind::TypeOfA, "", "0 integer, 1 real, 2 text"), schema::may(ValueKind::Text, "", "the text")},
    {Kind::Outcome, "Outcome", "outcome", "of the innermost open marker",
        {}, schema::may(ValueKind::Flag, "changed_nothing", "1 where it changed nothing"), {}, {}},
    {Kind::OperationBegin, "OperationBegin", "operation", "an operation begins",
        schema::kSite, schema::kOperation, {}, {}},
    {Kind::OperationStep, "OperationStep", "step", "takes a step", schema::kSite, schema::kOperation, {}, {}},
    {Kind::OperationEnd, "OperationEnd", "operation_end", "and ends",
        {}, schema::kOperation, schema::may(ValueKind::Signed, "code", "zigzag code, 0 where it succeeded"),
        schema::may(ValueKind::Text, "text", "why it failed")},
    {Kind::MemoryTaken, "MemoryTaken", "memory", "memory taken, charged to the innermost open marker",
        schema::kPool, schema::kAddress, schema::must(ValueKind::Number, "bytes", "bytes"),
        schema::may(ValueKind::Text, "name", "name of a resource or empty")},
    {Kind::MemoryGiven, "MemoryGiven", "memory_given", "memory released", schema::kPool, schema::kAddress, {}, {}},
    {Kind::Picture, "Picture", "picture", "whole rows of a picture of the screen",
        schema::must(ValueKind::Number, "picture", "picture"),
        schema::must(ValueKind::Size, "width", "width · 2^32 + height"),
        schema::may(ValueKind::Number, "row", "first row"),
        schema::may(ValueKind::Bytes, "pixels", "red, green, blue of its pixels")},
    {Kind::FrameTick, "FrameTick", "tick", "the series' open frame ends, the next begins",
        schema::kSeries, schema::kDeadline, {}, {}},
    {Kind::PointCode, "PointCode", "point_code", "a call failed",
        schema::kSeverity, schema::may(ValueKind::Signed, "code", "zigzag code"), {},
        schema::may(ValueKind::Text, "text", "what")},
    {Kind::Switch, "Switch", "switch", "who has a core from now on; in lanes of cores",
        schema::must(ValueKind::Number, "thread", "thread; 0: idle, 2^32 − 1: not known"),
        schema::may(ValueKind::Flag, "ready", "1 where the thread before is still ready to run"), {}, {}},
    {Kind::Sample, "Sample", "sample", "where a thread was; in lanes of cores",
        schema::must(ValueKind::Number, "thread", "thread"),
        schema::may(ValueKind::Flag, "blocks", "1 where it blocks there: at the time of the switch that follows"), {},
        schema::may(ValueKind::Bytes, "stack", "the addresses of its call stack, innermost first, each a zigzag varint "
                                               "of its difference from the one before")},
    {Kind::WakeUp, "WakeUp", "wake_up", "a blocked thread becomes ready to run; in lanes of cores",
        schema::must(ValueKind::Number, "thread", "thread"),
        schema::may(ValueKind::Number, "by", "the thread that woke it, 0 where the system did by itself (a timer, a device)"),
        {}, {}},
    {Kind::Input, "Input", "input", "a person did something: a key, a button, a touch", {}, {}, {},
        schema::may(ValueKind::Text, "text", "what")},
    {Kind::ThreadEnd, "ThreadEnd", "thread_end", "a thread has ended; in lanes of cores",
        schema::must(ValueKind::Number, "thread", "thread"), {}, {}, {}},
};
// clang-format on

inline constexpr uint8_t kKinds = static_cast<uint8_t>(std::size(kEvents));  // the last kind that is known

constexpr bool kindIsKnown(Kind kind) { return kind != Kind{} && static_cast<uint8_t>(kind) <= kKinds; }
/// Only for known kinds.
constexpr const EventSchema& schemaOf(Kind kind) { return kEvents[static_cast<uint8_t>(kind) - 1]; }

/// Kinds from here on all look alike: a byte count, then a, b and the text.
inline constexpr uint8_t kFirstCountedKind = 16;
constexpr bool kindIsCounted(Kind kind) { return static_cast<uint8_t>(kind) >= kFirstCountedKind; }

namespace schema {
/// A bit for each kind below 16 that has the value (of a certain kind, if it is given).
constexpr uint32_t kindsWith(EventValue EventSchema::*value, ValueKind kind = ValueKind::None) {
    uint32_t kinds = 0;
    for (const EventSchema& event : kEvents) {
        const ValueKind its = (event.*value).kind;
        if (!kindIsCounted(event.kind) && (kind == ValueKind::None ? its != kind : its == kind))
            kinds |= 1u << static_cast<uint8_t>(event.kind);
    }
    return kinds;
}
inline constexpr uint32_t kWithA = kindsWith(&EventSchema::a), kWithB = kindsWith(&EventSchema::b),
                          kWithText = kindsWith(&EventSchema::text),
                          kWithReal = kindsWith(&EventSchema::a, ValueKind::Real);
constexpr bool isIn(uint32_t kinds, Kind kind) {
    return kindIsCounted(kind) || (kinds >> static_cast<uint8_t>(kind) & 1);
}
constexpr bool isInOrder() {
    for (size_t i = 0; i < std::size(kEvents); ++i)
        if (static_cast<size_t>(kEvents[i].kind) != i + 1) return false;
    return true;
}
static_assert(isInOrder());
}  // namespace schema

constexpr bool kindHasA(Kind kind) { return schema::isIn(schema::kWithA, kind); }
constexpr bool kindHasB(Kind kind) { return schema::isIn(schema::kWithB, kind); }
constexpr bool kindHasText(Kind kind) { return schema::isIn(schema::kWithText, kind); }
/// Those that most events are: with nothing but a time and an id.
constexpr bool kindIsBare(Kind kind) { return kind == Kind::MarkBegin || kind == Kind::MarkEnd; }
static_assert(!(((schema::kWithA | schema::kWithB | schema::kWithText) >> static_cast<uint8_t>(Kind::MarkBegin)) & 1));
static_assert(!(((schema::kWithA | schema::kWithB | schema::kWithText) >> static_cast<uint8_t>(Kind::MarkEnd)) & 1));
/// Whether a is a double that keeps its 8 bytes.
constexpr bool kindHasReal(Kind kind) { return !kindIsCounted(kind) && schema::isIn(schema::kWithReal, kind); }

}  // namespace fugato::layout
