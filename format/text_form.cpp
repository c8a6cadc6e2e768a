// SPDX-License-Identifier: GPL-3.0-or-later
#include "text_form.h"

#include <simdjson.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <limits>
#include <map>
#include <nlohmann/json.hpp>
#include <unordered_map>

namespace fugato {

namespace {

using layout::DefinitionType, layout::EventSchema, layout::EventValue, layout::ValueKind;
using Json = nlohmann::ordered_json;   // written with the keys in the order of the description
using Parsed = simdjson::dom::object;  // read: of one line, until the next is parsed
using Element = simdjson::dom::element;

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

Json numberOrName(double value) {  // JSON has no other numbers than finite ones
    if (std::isnan(value)) return "nan";
    if (std::isinf(value)) return value > 0 ? "inf" : "-inf";
    return value;
}

double realOf(uint64_t bits) {
    double value = 0;
    std::memcpy(&value, &bits, sizeof value);
    return value;
}

template <class Definition>
Json toJson(const Definition& definition) {
    Json json{{"define", Definition::kName}};
    Definition::fields(definition, [&](const char* name, const auto& value, const char*) {
        using Value = std::decay_t<decltype(value)>;
        if (!*name) return;
        if constexpr (std::is_same_v<Value, std::optional<double>>) {
            if (value) json[name] = numberOrName(*value);
        } else if constexpr (std::is_enum_v<Value>) {
            json[name] = wordOf(value);
        } else {
            json[name] = value;
        }
    });
    return json;
}

/// Puts one of an event's values into its line.
void putValue(Json& json, const EventValue& value, uint64_t number, const Event& event) {
    const auto left = [&](bool empty) { return value.optional && empty; };
    switch (value.kind) {
        case ValueKind::None:
        case ValueKind::TypeOfA: break;
        case ValueKind::Id:
        case ValueKind::Number:
            if (!left(number == 0)) json[value.name] = number;
            break;
        case ValueKind::Signed:
            if (!left(number == 0)) json[value.name] = layout::unzigzag(number);
            break;
        case ValueKind::Real: json[value.name] = numberOrName(realOf(number)); break;
        case ValueKind::Flag:
            if (!left(number == 0)) json[value.name] = number != 0;
            break;
        case ValueKind::Severity: json[value.name] = wordOf(static_cast<Severity>(number)); break;
        case ValueKind::WaitKind: json[value.name] = wordOf(static_cast<WaitKind>(number)); break;
        case ValueKind::Size:
            json["width"] = number >> 32;
            json["height"] = number & 0xffffffff;
            break;
        case ValueKind::AsTyped:
            if (event.b == static_cast<uint64_t>(ArgumentType::Integer))
                json[value.name] = layout::unzigzag(number);
            else if (event.b == static_cast<uint64_t>(ArgumentType::Real))
                json[value.name] = Json{{"real", numberOrName(realOf(number))}};
            else
                json[value.name] = event.text;
            break;
        case ValueKind::Text:
            if (*value.name && !left(event.text.empty())) json[value.name] = event.text;
            break;
        case ValueKind::Bytes: json[value.name] = toHex(event.text); break;
    }
}

Json toJson(uint32_t lane, const Event& event) {
    const EventSchema& schema = layout::schemaOf(event.kind);
    Json json{{"at", event.time}, {"lane", lane}, {"do", schema.word}};
    putValue(json, schema.id, event.id, event);
    putValue(json, schema.a, event.a, event);
    putValue(json, schema.b, event.b, event);
    putValue(json, schema.text, 0, event);
    return json;
}

/// Turns parsed lines into events; throws Wrong with what is wrong about the line.
class LineReader {
public:
    explicit LineReader(EventSink& sink) : sink_(sink) {}

    struct Wrong {
        std::string what;
    };

    void take(const Element& parsed) {
        Parsed line;
        if (parsed.get(line)) throw Wrong{"it is not a JSON object"};
        if (find(line, "fugato")) {
            if (find(line, "started_unix_ns")) sink_.started(whole<int64_t>(line, "started_unix_ns"));
        } else if (find(line, "define")) {
            define(line, text(line, "define"));
        } else if (find(line, "do")) {
            event(line);
        } else {
            throw Wrong{"it has neither \"define\" nor \"do\""};
        }
    }

private:
    static std::optional<Element> find(const Parsed& line, const char* key) {
        Element found;
        if (line.at_key(key).get(found)) return std::nullopt;
        return found;
    }
    static Element needed(const Parsed& line, const char* key) {
        if (const auto found = find(line, key)) return *found;
        throw Wrong{std::string("\"") + key + "\" is missing"};
    }
    template <class T>
    static T whole(const Parsed& line, const char* key, std::optional<T> otherwise = std::nullopt) {
        const auto found = find(line, key);
        if (!found && otherwise) return *otherwise;
        const Element value = found ? *found : needed(line, key);
        if (uint64_t number = 0; !value.get(number)) {
            if (number <= static_cast<uint64_t>(std::numeric_limits<T>::max())) return static_cast<T>(number);
        } else if (int64_t negative = 0; !value.get(negative)) {
            if (std::is_signed_v<T> && negative >= static_cast<int64_t>(std::numeric_limits<T>::min()))
                return static_cast<T>(negative);
        }
        throw Wrong{std::string("\"") + key + "\" is not a whole number in range"};
    }
    static std::string_view text(const Parsed& line, const char* key) {
        const auto found = find(line, key);
        if (!found) return {};
        std::string_view value;
        if (found->get(value)) throw Wrong{std::string("\"") + key + "\" is not a text"};
        return value;
    }
    static double real(const Parsed& line, const char* key) {
        const Element found = needed(line, key);
        if (double number = 0; !found.get(number)) return number;
        if (std::string_view name; !found.get(name)) {
            if (name == "nan") return std::numeric_limits<double>::quiet_NaN();
            if (name == "inf") return std::numeric_limits<double>::infinity();
            if (name == "-inf") return -std::numeric_limits<double>::infinity();
        }
        throw Wrong{std::string("\"") + key + "\" is not a number"};
    }
    template <class Enum>
    static Enum choice(const Parsed& line, const char* key, Enum otherwise) {
        const std::string_view word = text(line, key);
        if (word.empty()) return otherwise;
        for (size_t i = 0; i < std::size(layout::kWords<Enum>); ++i)
            if (word == layout::kWords<Enum>[i]) return static_cast<Enum>(i);
        throw Wrong{std::string("\"") + key + "\" is \"" + std::string(word) + "\", which is none of the known ones"};
    }
    static std::string bytes(const Parsed& line, const char* key) {
        if (auto decoded = fromHex(text(line, key))) return std::move(*decoded);
        throw Wrong{std::string("\"") + key + "\" is not an even number of hexadecimal digits"};
    }

    /// An id, given as a number or as a name; a name not seen before defines itself.
    uint32_t reference(const Parsed& line, const char* key, DefinitionType type) {
        std::string_view given;
        if (needed(line, key).get(given)) return whole<uint32_t>(line, key);
        Names& names = names_[type];
        const auto known = names.ids.find(given);
        if (known != names.ids.end()) return known->second;
        const uint32_t id = names.ids[std::string(given)] = ++names.highest;
        defineNamed(type, id, std::string(given));
        return id;
    }
    template <size_t at = 0>
    void defineNamed(DefinitionType type, uint32_t id, const std::string& name) {
        if constexpr (at < std::variant_size_v<Definition>) {
            using Told = std::variant_alternative_t<at, Definition>;
            if (type != Told::kType) return defineNamed<at + 1>(type, id, name);
            if constexpr (requires(Told told) { told.id, told.name; }) {
                Told told;
                told.id = id;
                told.name = name;
                sink_.define(told);
            }
        }
    }

    /// The definition among those of the variant that has the name.
    template <size_t at = 0>
    void define(const Parsed& line, std::string_view what) {
        if constexpr (at < std::variant_size_v<Definition>) {
            using Told = std::variant_alternative_t<at, Definition>;
            if (what != Told::kName) return define<at + 1>(line, what);
            Told told;
            Told::fields(told, [&](const char* name, auto& value, const char*) { field(line, name, value); });
            if constexpr (requires { told.id, told.name; }) {
                Names& names = names_[Told::kType];
                names.highest = std::max(names.highest, whole<uint32_t>(line, "id"));
                if (!told.name.empty()) names.ids.try_emplace(told.name, told.id);
            }
            sink_.define(told);
        } else {
            throw Wrong{"\"define\" is \"" + std::string(what) + "\", which is none of the known ones"};
        }
    }
    template <class Field>
    static void field(const Parsed& line, const char* name, Field& value) {
        if (!*name) return;
        if constexpr (std::is_same_v<Field, std::optional<double>>) {
            if (find(line, name)) value = real(line, name);
        } else if constexpr (std::is_enum_v<Field>) {
            value = choice(line, name, Field{});
        } else if constexpr (std::is_integral_v<Field>) {
            value = whole<Field>(line, name, 0);
        } else {
            value = text(line, name);
        }
    }

    void event(const Parsed& line) {
        const std::string_view word = text(line, "do");
        const auto* const schema = std::find_if(std::begin(layout::kEvents), std::end(layout::kEvents),
                                                [&](const EventSchema& known) { return word == known.word; });
        if (schema == std::end(layout::kEvents))
            throw Wrong{"\"do\" is \"" + std::string(word) + "\", which is none of the known ones"};
        Event event;
        event.kind = schema->kind;
        event.time = whole<int64_t>(line, "at");
        std::string kept;
        event.id = static_cast<uint32_t>(number<uint32_t>(line, schema->id, event, kept));
        event.a = number<uint64_t>(line, schema->a, event, kept);
        if (schema->b.kind != ValueKind::TypeOfA) event.b = number<uint64_t>(line, schema->b, event, kept);
        if (schema->text.kind == ValueKind::Bytes)
            kept = bytes(line, schema->text.name);
        else if (schema->text.kind == ValueKind::Text && *schema->text.name)
            kept = text(line, schema->text.name);
        event.text = kept;
        sink_.event(reference(line, "lane", DefinitionType::Lane), event);
    }

    /// One of an event's numbers, as it is kept. An argument's value may set b and the text too.
    template <class Number>
    uint64_t number(const Parsed& line, const EventValue& value, Event& event, std::string& kept) {
        const bool there = find(line, value.name).has_value();
        switch (value.kind) {
            case ValueKind::Id: return there || !value.optional ? reference(line, value.name, value.of) : 0;
            case ValueKind::Number: return there || !value.optional ? whole<Number>(line, value.name) : 0;
            case ValueKind::Signed: return layout::zigzag(whole<int64_t>(line, value.name, 0));
            case ValueKind::Real: return bitsOf(real(line, value.name));
            case ValueKind::Flag: return there && isTrue(line, value.name);
            case ValueKind::Severity: return static_cast<uint64_t>(choice(line, value.name, Severity::Info));
            case ValueKind::WaitKind: return static_cast<uint64_t>(choice(line, value.name, WaitKind::Other));
            case ValueKind::Size:
                return uint64_t{whole<uint32_t>(line, "width")} << 32 | whole<uint32_t>(line, "height");
            case ValueKind::AsTyped: return typed(line, value.name, event, kept);
            case ValueKind::None:
            case ValueKind::TypeOfA:
            case ValueKind::Text:
            case ValueKind::Bytes: break;
        }
        return 0;
    }
    static bool isTrue(const Parsed& line, const char* key) {
        bool flag = false;
        return !needed(line, key).get(flag) && flag;
    }
    static uint64_t bitsOf(double number) {
        uint64_t bits = 0;
        std::memcpy(&bits, &number, sizeof bits);
        return bits;
    }
    static uint64_t typed(const Parsed& line, const char* key, Event& event, std::string& kept) {
        const Element value = needed(line, key);
        if (std::string_view words; !value.get(words)) {
            event.b = static_cast<uint64_t>(ArgumentType::Text);
            kept = words;
            return 0;
        }
        if (value.is_int64() || value.is_uint64()) {
            event.b = static_cast<uint64_t>(ArgumentType::Integer);
            return layout::zigzag(whole<int64_t>(line, key));
        }
        event.b = static_cast<uint64_t>(ArgumentType::Real);
        Parsed object;
        return bitsOf(!value.get(object) ? real(object, "real") : real(line, key));
    }

    struct Hash {
        using is_transparent = void;
        size_t operator()(std::string_view name) const { return std::hash<std::string_view>()(name); }
    };
    struct Names {
        std::unordered_map<std::string, uint32_t, Hash, std::equal_to<>> ids;
        uint32_t highest = 0;
    };
    EventSink& sink_;
    std::map<DefinitionType, Names> names_;
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
    simdjson::dom::parser parser;
    std::string buffer;
    uint64_t offset = 0, number = 0, good = 0;
    const auto wrong = [&](const std::string& what) {
        ++damage.wrongLines;
        damage.note("Line " + std::to_string(number) + " was left out: " + what + ".");
    };
    const auto take = [&](std::string_view line) {
        ++number;
        if (line.find_first_not_of(" \t\r") == std::string_view::npos) return;
        Element json;
        if (const auto error = parser.parse(line.data(), line.size()).get(json))
            return wrong(error == simdjson::NUMBER_ERROR ? "a number in it is none, or out of range"
                                                         : "it is not valid JSON");
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
