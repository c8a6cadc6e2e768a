// SPDX-License-Identifier: GPL-3.0-or-later
#include "text_form.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <limits>
#include <nlohmann/json.hpp>
#include <unordered_map>

namespace fugato {

namespace {

using Json = nlohmann::ordered_json;  // written with the keys in the order of the description
using Parsed = nlohmann::json;        // read: keys are looked up quickly, however many there are

struct Verb {
    EventKind kind;
    const char* name;
};
constexpr Verb kVerbs[] = {
    {EventKind::MarkBegin, "begin"},      {EventKind::MarkEnd, "end"},
    {EventKind::FrameBegin, "frame"},     {EventKind::FrameEnd, "frame_end"},
    {EventKind::Count, "count"},          {EventKind::Point, "point"},
    {EventKind::WaitBegin, "wait"},       {EventKind::WaitEnd, "wait_end"},
    {EventKind::Taken, "taken"},          {EventKind::Given, "given"},
    {EventKind::LinkOut, "link_out"},     {EventKind::LinkIn, "link_in"},
    {EventKind::StateSet, "state"},       {EventKind::Lost, "lost"},
    {EventKind::LaneEnd, "lane_end"},     {EventKind::Argument, "argument"},
    {EventKind::Outcome, "outcome"},      {EventKind::OperationBegin, "operation"},
    {EventKind::OperationStep, "step"},   {EventKind::OperationEnd, "operation_end"},
    {EventKind::MemoryTaken, "memory"},   {EventKind::MemoryGiven, "memory_given"},
    {EventKind::Picture, "picture"},      {EventKind::FrameTick, "tick"},
    {EventKind::PointCode, "point_code"}, {EventKind::Switch, "switch"},
    {EventKind::Sample, "sample"},
};

constexpr char kHexDigits[] = "0123456789abcdef";
std::string toHex(std::string_view bytes) {
    std::string hex;
    for (const char byte : bytes) {
        hex += kHexDigits[static_cast<unsigned char>(byte) >> 4];
        hex += kHexDigits[static_cast<unsigned char>(byte) & 15];
    }
    return hex;
}
/// The bytes that hexadecimal digits stand for; nothing where they are none.
std::optional<std::string> fromHex(std::string_view hex) {
    std::string bytes;
    if (hex.size() % 2) return std::nullopt;
    for (size_t i = 0; i < hex.size(); i += 2) {
        const char* high = std::strchr(kHexDigits, hex[i]);
        const char* low = std::strchr(kHexDigits, hex[i + 1]);
        if (!hex[i] || !hex[i + 1] || !high || !low) return std::nullopt;
        bytes += static_cast<char>((high - kHexDigits) << 4 | (low - kHexDigits));
    }
    return bytes;
}

const char* verbOf(EventKind kind) {
    for (const Verb& verb : kVerbs)
        if (verb.kind == kind) return verb.name;
    return "";
}

Json toJson(const LaneDefinition& d) {
    return {{"define", "lane"}, {"id", d.id},  {"name", d.name}, {"kind", laneKindName(d.kind)},
            {"role", d.role},   {"os", d.osId}};
}
Json toJson(const SiteDefinition& d) {
    return {{"define", "site"},
            {"id", d.id},
            {"name", d.name},
            {"category", d.category},
            {"description", d.description},
            {"file", d.file},
            {"line", d.line},
            {"longest_ns", d.longestNs},
            {"detail", d.detail}};
}
Json toJson(const SeriesDefinition& d) {
    return {{"define", "series"}, {"id", d.id}, {"name", d.name}, {"deadline_ns", d.deadlineNs}};
}
Json toJson(const ObjectDefinition& d) { return {{"define", "object"}, {"id", d.id}, {"name", d.name}}; }
Json numberOrName(double value) {  // JSON has no other numbers than finite ones
    if (std::isnan(value)) return "nan";
    if (std::isinf(value)) return value > 0 ? "inf" : "-inf";
    return value;
}
Json toJson(const CounterDefinition& d) {
    Json json{{"define", "counter"}, {"id", d.id}, {"name", d.name}, {"unit", d.unit}};
    if (d.threshold) json["threshold"] = numberOrName(*d.threshold);
    return json;
}
Json toJson(const StateDefinition& d) { return {{"define", "state"}, {"id", d.id}, {"name", d.name}}; }
Json toJson(const KeyDefinition& d) { return {{"define", "key"}, {"id", d.id}, {"name", d.name}}; }
Json toJson(const PoolDefinition& d) { return {{"define", "pool"}, {"id", d.id}, {"name", d.name}}; }
Json toJson(const OsThreadDefinition& d) {
    return {{"define", "os_thread"}, {"id", d.id}, {"process", d.process}, {"name", d.name}};
}
Json toJson(const ModuleDefinition& d) {
    return {{"define", "module"}, {"address", d.address}, {"bytes", d.bytes},
            {"offset", d.offset}, {"path", d.path},       {"build_id", d.buildId}};
}
Json toJson(const ContextDefinition& d) { return {{"define", "context"}, {"key", d.key}, {"value", d.value}}; }

Json toJson(uint32_t lane, const Event& event) {
    Json json{{"at", event.time}, {"lane", lane}, {"do", verbOf(event.kind)}};
    switch (event.kind) {
        case EventKind::MarkBegin: json["site"] = event.id; break;
        case EventKind::FrameBegin:
            json["series"] = event.id;
            if (event.a) json["deadline_ns"] = event.a;
            break;
        case EventKind::FrameEnd: json["series"] = event.id; break;
        case EventKind::Count: {
            double value = 0;
            std::memcpy(&value, &event.a, sizeof value);
            json["counter"] = event.id;
            json["value"] = numberOrName(value);
            break;
        }
        case EventKind::Point:
            json["severity"] = severityName(static_cast<Severity>(event.id));
            json["text"] = event.text;
            break;
        case EventKind::WaitBegin:
            json["object"] = event.id;
            json["site"] = event.a;
            json["kind"] = waitKindName(static_cast<WaitKind>(event.b));
            break;
        case EventKind::WaitEnd:
            if (event.a) json["link"] = event.a;
            break;
        case EventKind::Taken:
        case EventKind::Given: json["object"] = event.id; break;
        case EventKind::LinkOut:
        case EventKind::LinkIn: json["link"] = event.a; break;
        case EventKind::StateSet:
            json["state"] = event.id;
            json["value"] = event.text;
            break;
        case EventKind::Lost:
            json["events"] = event.a;
            if (event.b) json["broken"] = true;
            break;
        case EventKind::Argument:
            json["key"] = event.id;
            if (event.b == static_cast<uint64_t>(ArgumentType::Integer)) {
                json["value"] = layout::unzigzag(event.a);
            } else if (event.b == static_cast<uint64_t>(ArgumentType::Real)) {
                double value = 0;
                std::memcpy(&value, &event.a, sizeof value);
                json["value"] = Json{{"real", numberOrName(value)}};
            } else {
                json["value"] = event.text;
            }
            break;
        case EventKind::Outcome: json["changed_nothing"] = event.a == 1; break;
        case EventKind::OperationBegin:
        case EventKind::OperationStep:
            json["site"] = event.id;
            json["operation"] = event.a;
            break;
        case EventKind::OperationEnd:
            json["operation"] = event.a;
            json["code"] = layout::unzigzag(event.b);
            if (!event.text.empty()) json["text"] = event.text;
            break;
        case EventKind::MemoryTaken:
            json["pool"] = event.id;
            json["address"] = event.a;
            json["bytes"] = event.b;
            if (!event.text.empty()) json["name"] = event.text;
            break;
        case EventKind::MemoryGiven:
            json["pool"] = event.id;
            json["address"] = event.a;
            break;
        case EventKind::Picture:
            json["picture"] = event.id;
            json["width"] = event.a >> 32;
            json["height"] = event.a & 0xffffffff;
            json["row"] = event.b;
            json["pixels"] = toHex(event.text);
            break;
        case EventKind::FrameTick:
            json["series"] = event.id;
            if (event.a) json["deadline_ns"] = event.a;
            break;
        case EventKind::PointCode:
            json["severity"] = severityName(static_cast<Severity>(event.id));
            json["code"] = layout::unzigzag(event.a);
            json["text"] = event.text;
            break;
        case EventKind::Switch:
            json["thread"] = event.id;
            if (event.a) json["ready"] = true;
            break;
        case EventKind::Sample:
            json["thread"] = event.id;
            json["stack"] = toHex(event.text);
            break;
        default: break;
    }
    return json;
}

/// Turns parsed lines into events; throws Wrong with what is wrong about the line.
class LineReader {
public:
    explicit LineReader(EventSink& sink) : sink_(sink) {}

    struct Wrong {
        std::string what;
    };

    void take(const Parsed& line) {
        if (!line.is_object()) throw Wrong{"it is not a JSON object"};
        if (line.contains("fugato")) {
            if (line.contains("started_unix_ns")) sink_.started(whole<int64_t>(line, "started_unix_ns"));
        } else if (line.contains("define")) {
            define(line);
        } else if (line.contains("do")) {
            event(line);
        } else {
            throw Wrong{"it has neither \"define\" nor \"do\""};
        }
    }

private:
    template <class T>
    static T whole(const Parsed& line, const char* key, std::optional<T> otherwise = std::nullopt) {
        const auto found = line.find(key);
        if (found == line.end()) {
            if (otherwise) return *otherwise;
            throw Wrong{std::string("\"") + key + "\" is missing"};
        }
        if (found->is_number_unsigned()) {
            const auto value = found->template get<uint64_t>();
            if (value <= static_cast<uint64_t>(std::numeric_limits<T>::max())) return static_cast<T>(value);
        } else if (found->is_number_integer()) {
            const auto value = found->template get<int64_t>();
            if (std::is_signed_v<T> && value >= static_cast<int64_t>(std::numeric_limits<T>::min()))
                return static_cast<T>(value);
        }
        throw Wrong{std::string("\"") + key + "\" is not a whole number in range"};
    }
    static std::string text(const Parsed& line, const char* key) {
        const auto found = line.find(key);
        if (found == line.end()) return {};
        if (!found->is_string()) throw Wrong{std::string("\"") + key + "\" is not a text"};
        return found->get<std::string>();
    }
    static double real(const Parsed& line, const char* key) {
        const auto found = line.find(key);
        if (found == line.end()) throw Wrong{std::string("\"") + key + "\" is missing"};
        if (found->is_number()) return found->get<double>();
        if (found->is_string()) {
            const auto name = found->get<std::string>();
            if (name == "nan") return std::numeric_limits<double>::quiet_NaN();
            if (name == "inf") return std::numeric_limits<double>::infinity();
            if (name == "-inf") return -std::numeric_limits<double>::infinity();
        }
        throw Wrong{std::string("\"") + key + "\" is not a number"};
    }
    template <size_t N, class Enum>
    static Enum choice(const Parsed& line, const char* key, const char* (*nameOf)(Enum), Enum otherwise) {
        const std::string name = text(line, key);
        if (name.empty()) return otherwise;
        for (size_t i = 0; i < N; ++i)
            if (name == nameOf(static_cast<Enum>(i))) return static_cast<Enum>(i);
        throw Wrong{std::string("\"") + key + "\" is \"" + name + "\", which is none of the known ones"};
    }

    /// An id, given as a number or as a name; a name not seen before defines itself.
    template <class Kind>
    uint32_t ref(const Parsed& line, const char* key) {
        const auto found = line.find(key);
        if (found == line.end()) throw Wrong{std::string("\"") + key + "\" is missing"};
        if (!found->is_string()) return whole<uint32_t>(line, key);
        Names& names = names_[key];
        const auto name = found->get<std::string>();
        const auto [at, isNew] = names.ids.try_emplace(name, 0);
        if (isNew) {
            Kind definition;
            definition.id = at->second = ++names.highest;
            definition.name = name;
            sink_.define(definition);
        }
        return at->second;
    }
    uint32_t defineId(const Parsed& line, const char* key) {
        const auto id = whole<uint32_t>(line, "id");
        Names& names = names_[key];
        names.highest = std::max(names.highest, id);
        if (const std::string name = text(line, "name"); !name.empty()) names.ids.try_emplace(name, id);
        return id;
    }

    void define(const Parsed& line) {
        const std::string what = text(line, "define");
        if (what == "lane") {
            LaneDefinition lane;
            lane.id = defineId(line, "lane");
            lane.name = text(line, "name");
            lane.role = text(line, "role");
            lane.kind = choice<3>(line, "kind", laneKindName, LaneKind::Thread);
            lane.osId = whole<uint64_t>(line, "os", 0);
            sink_.define(lane);
        } else if (what == "site") {
            SiteDefinition site;
            site.id = defineId(line, "site");
            site.name = text(line, "name");
            site.category = text(line, "category");
            site.description = text(line, "description");
            site.file = text(line, "file");
            site.line = whole<uint32_t>(line, "line", 0);
            site.longestNs = whole<uint64_t>(line, "longest_ns", 0);
            site.detail = whole<uint32_t>(line, "detail", 0);
            sink_.define(site);
        } else if (what == "series") {
            SeriesDefinition series;
            series.id = defineId(line, "series");
            series.name = text(line, "name");
            series.deadlineNs = whole<uint64_t>(line, "deadline_ns", 0);
            sink_.define(series);
        } else if (what == "object") {
            const uint32_t id = defineId(line, "object");
            sink_.define(ObjectDefinition{id, text(line, "name")});
        } else if (what == "counter") {
            CounterDefinition counter;
            counter.id = defineId(line, "counter");
            counter.name = text(line, "name");
            counter.unit = text(line, "unit");
            if (line.contains("threshold")) counter.threshold = real(line, "threshold");
            sink_.define(counter);
        } else if (what == "state") {
            const uint32_t id = defineId(line, "state");
            sink_.define(StateDefinition{id, text(line, "name")});
        } else if (what == "key") {
            const uint32_t id = defineId(line, "key");
            sink_.define(KeyDefinition{id, text(line, "name")});
        } else if (what == "pool") {
            const uint32_t id = defineId(line, "pool");
            sink_.define(PoolDefinition{id, text(line, "name")});
        } else if (what == "os_thread") {
            sink_.define(OsThreadDefinition{whole<uint32_t>(line, "id"), whole<uint32_t>(line, "process", 0),
                                            text(line, "name")});
        } else if (what == "module") {
            sink_.define(ModuleDefinition{whole<uint64_t>(line, "address"), whole<uint64_t>(line, "bytes"),
                                          whole<uint64_t>(line, "offset", 0), text(line, "path"),
                                          text(line, "build_id")});
        } else if (what == "context") {
            sink_.define(ContextDefinition{text(line, "key"), text(line, "value")});
        } else {
            throw Wrong{"\"define\" is \"" + what + "\", which is none of the known ones"};
        }
    }

    void event(const Parsed& line) {
        const std::string verb = text(line, "do");
        Event event;
        for (const Verb& known : kVerbs)
            if (verb == known.name) event.kind = known.kind;
        if (event.kind == EventKind{}) throw Wrong{"\"do\" is \"" + verb + "\", which is none of the known ones"};
        event.time = whole<int64_t>(line, "at");
        std::string kept;
        switch (event.kind) {
            case EventKind::MarkBegin: event.id = ref<SiteDefinition>(line, "site"); break;
            case EventKind::FrameBegin:
                event.id = ref<SeriesDefinition>(line, "series");
                event.a = whole<uint64_t>(line, "deadline_ns", 0);
                break;
            case EventKind::FrameEnd: event.id = ref<SeriesDefinition>(line, "series"); break;
            case EventKind::Count: {
                const double value = real(line, "value");
                std::memcpy(&event.a, &value, sizeof value);
                event.id = ref<CounterDefinition>(line, "counter");
                break;
            }
            case EventKind::Point:
                event.id = static_cast<uint32_t>(choice<4>(line, "severity", severityName, Severity::Info));
                kept = text(line, "text");
                break;
            case EventKind::WaitBegin:
                event.id = ref<ObjectDefinition>(line, "object");
                event.a = ref<SiteDefinition>(line, "site");
                event.b = static_cast<uint64_t>(choice<8>(line, "kind", waitKindName, WaitKind::Other));
                break;
            case EventKind::WaitEnd: event.a = whole<uint64_t>(line, "link", 0); break;
            case EventKind::Taken:
            case EventKind::Given: event.id = ref<ObjectDefinition>(line, "object"); break;
            case EventKind::LinkOut:
            case EventKind::LinkIn: event.a = whole<uint64_t>(line, "link"); break;
            case EventKind::StateSet:
                event.id = ref<StateDefinition>(line, "state");
                kept = text(line, "value");
                break;
            case EventKind::Lost:
                event.a = whole<uint64_t>(line, "events");
                event.b = line.contains("broken") && line["broken"] == true;
                break;
            case EventKind::Argument: argument(line, event, kept); break;
            case EventKind::Outcome:
                event.a = line.contains("changed_nothing") && line["changed_nothing"] == true;
                break;
            case EventKind::OperationBegin:
            case EventKind::OperationStep:
                event.id = ref<SiteDefinition>(line, "site");
                event.a = whole<uint64_t>(line, "operation");
                break;
            case EventKind::OperationEnd:
                event.a = whole<uint64_t>(line, "operation");
                event.b = layout::zigzag(whole<int64_t>(line, "code", 0));
                kept = text(line, "text");
                break;
            case EventKind::MemoryTaken:
                event.b = whole<uint64_t>(line, "bytes");
                kept = text(line, "name");
                [[fallthrough]];
            case EventKind::MemoryGiven:
                event.id = line.contains("pool") ? ref<PoolDefinition>(line, "pool") : 0;
                event.a = whole<uint64_t>(line, "address");
                break;
            case EventKind::Picture:
                event.id = whole<uint32_t>(line, "picture");
                event.a = uint64_t{whole<uint32_t>(line, "width")} << 32 | whole<uint32_t>(line, "height");
                event.b = whole<uint64_t>(line, "row", 0);
                kept = bytes(line, "pixels");
                break;
            case EventKind::FrameTick:
                event.id = ref<SeriesDefinition>(line, "series");
                event.a = whole<uint64_t>(line, "deadline_ns", 0);
                break;
            case EventKind::PointCode:
                event.id = static_cast<uint32_t>(choice<4>(line, "severity", severityName, Severity::Info));
                event.a = layout::zigzag(whole<int64_t>(line, "code", 0));
                kept = text(line, "text");
                break;
            case EventKind::Switch:
                event.id = whole<uint32_t>(line, "thread");
                event.a = line.contains("ready") && line["ready"] == true;
                break;
            case EventKind::Sample:
                event.id = whole<uint32_t>(line, "thread");
                kept = bytes(line, "stack");
                break;
            default: break;
        }
        event.text = kept;
        sink_.event(ref<LaneDefinition>(line, "lane"), event);
    }

    static std::string bytes(const Parsed& line, const char* key) {
        if (auto decoded = fromHex(text(line, key))) return std::move(*decoded);
        throw Wrong{std::string("\"") + key + "\" is not an even number of hexadecimal digits"};
    }
    void argument(const Parsed& line, Event& event, std::string& kept) {
        event.id = ref<KeyDefinition>(line, "key");
        const auto value = line.find("value");
        if (value == line.end()) throw Wrong{"\"value\" is missing"};
        if (value->is_string()) {
            event.b = static_cast<uint64_t>(ArgumentType::Text);
            kept = value->get<std::string>();
        } else if (value->is_number_integer()) {
            event.b = static_cast<uint64_t>(ArgumentType::Integer);
            event.a = layout::zigzag(whole<int64_t>(line, "value"));
        } else {
            const double number = value->is_object() ? real(*value, "real") : real(line, "value");
            event.b = static_cast<uint64_t>(ArgumentType::Real);
            std::memcpy(&event.a, &number, sizeof number);
        }
    }

    struct Names {
        std::unordered_map<std::string, uint32_t> ids;
        uint32_t highest = 0;
    };
    EventSink& sink_;
    std::unordered_map<std::string, Names> names_;
};

}  // namespace

bool looksLikeText(ByteSource& source) {
    char head[512];
    const size_t count = source.read(0, head, sizeof head);
    for (size_t i = 0; i < count; ++i) {
        if (std::strchr(" \t\r\n", head[i]) && head[i]) continue;
        return head[i] == '{';
    }
    return false;
}

Result<Damage> readText(ByteSource& source, const std::string& name, EventSink& sink, const Progress& progress) {
    constexpr size_t kWindow = 1 << 20, kLongestLine = 64 << 20;
    Damage damage;
    LineReader reader(sink);
    std::string buffer;
    uint64_t offset = 0, number = 0, good = 0;
    const auto wrong = [&](const std::string& what) {
        ++damage.wrongLines;
        damage.note("Line " + std::to_string(number) + " was left out: " + what + ".");
    };
    const auto take = [&](std::string_view line) {
        ++number;
        if (line.find_first_not_of(" \t\r") == std::string_view::npos) return;
        const Parsed json = Parsed::parse(line, nullptr, false);
        if (json.is_discarded()) return wrong("it is not valid JSON");
        try {
            reader.take(json);
            ++good;
        } catch (const LineReader::Wrong& reason) {
            wrong(reason.what);
        }
    };
    while (offset < source.size()) {
        if (progress && !progress(static_cast<double>(offset) / static_cast<double>(source.size())))
            return Failure{"Opening " + name + " was cancelled.", true};
        const size_t before = buffer.size();
        buffer.resize(before + kWindow);
        const size_t count = source.read(offset, buffer.data() + before, kWindow);
        buffer.resize(before + count);
        if (!count) break;
        offset += count;
        size_t from = 0;
        for (size_t end; (end = buffer.find('\n', from)) != std::string::npos; from = end + 1)
            take(std::string_view(buffer).substr(from, end - from));
        buffer.erase(0, from);
        if (buffer.size() > kLongestLine)
            return Failure{name + " has a line of more than 64 MB (line " + std::to_string(number + 1) +
                           "). Each event must stand on a line of its own; see docs/text-form.md."};
    }
    if (!buffer.empty()) take(buffer);
    if (!good) {
        return Failure{name + " is not a recording in text form: no line could be read. " +
                       (damage.notes.empty() ? "" : damage.notes.front() + " ") +
                       "See docs/text-form.md for the form."};
    }
    return damage;
}

bool writeText(const EventStore& store, const std::function<bool(std::string_view)>& write, const Progress& progress) {
    bool good = true;
    const auto put = [&](const Json& json) {
        good = good && write(json.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n");
    };
    Json head{{"fugato", "text"}, {"version", 1}};
    if (store.startedUnixNs) head["started_unix_ns"] = store.startedUnixNs;
    put(head);
    for (const Definition& definition : store.definitions)
        put(std::visit([](const auto& d) { return toJson(d); }, definition));
    size_t done = 0;
    const size_t total = store.eventCount();
    store.inTimeOrder([&](uint32_t lane, const Event& event) {
        put(toJson(lane, event));
        if (++done % 65536 == 0 && progress)
            good = good && progress(static_cast<double>(done) / static_cast<double>(total));
        return good;
    });
    return good;
}

}  // namespace fugato
