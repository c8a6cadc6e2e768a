// SPDX-License-Identifier: GPL-3.0-or-later
#include "debug_information.h"

#include <cxxabi.h>
#include <dwarf.h>
#include <elfutils/libdwfl.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <map>
#include <memory>
#include <optional>

#include "format/shown_text.h"

namespace fugato {

namespace {

constexpr int kDeepestNesting = 256;  // of entries that describe functions; more is damage

struct Symbol {
    uint64_t from, to;
    const char* name;
};

/// A file opened by libdw. Addresses are those that libdw gives the file's segments.
class CodeFile {
public:
    CodeFile(const std::string& path, const std::string& buildId, DebugInformation::State& state) {
        using State = DebugInformation::State;
        state = State::Missing;
        const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
        if (fd < 0) return;
        struct stat status {};
        if (::fstat(fd, &status) != 0 || !S_ISREG(status.st_mode)) {
            ::close(fd);
            return;
        }
        state = State::Unreadable;
        static char* searched = nullptr;  // the usual places of separate debug files
        static const Dwfl_Callbacks callbacks{dwfl_build_id_find_elf, dwfl_standard_find_debuginfo,
                                              dwfl_offline_section_address, &searched};
        dwfl_.reset(dwfl_begin(&callbacks));
        if (!dwfl_) {
            ::close(fd);
            return;
        }
        module_ = dwfl_report_offline(dwfl_.get(), path.c_str(), path.c_str(), fd);  // takes the descriptor
        if (!module_) {
            ::close(fd);
            return;
        }
        dwfl_report_end(dwfl_.get(), nullptr, nullptr);
        elf_ = dwfl_module_getelf(module_, &bias_);
        if (!elf_) return;
        if (!buildId.empty() && buildIdOf() != buildId) {
            state = State::Changed;
            elf_ = nullptr;
            return;
        }
        dwarf_ = dwfl_module_getdwarf(module_, &dwarfBias_);
        state = dwarf_ ? State::Whole : State::SymbolsOnly;
    }

    bool good() const { return elf_ != nullptr; }
    Dwarf* dwarf() const { return dwarf_; }
    Dwarf_Addr dwarfBias() const { return dwarfBias_; }

    /// Where an offset of the file is loaded to.
    std::optional<uint64_t> addressOf(uint64_t offset) const {
        size_t count = 0;
        if (elf_getphdrnum(elf_, &count) != 0) return std::nullopt;
        for (size_t i = 0; i < count; ++i) {
            GElf_Phdr header;
            if (!gelf_getphdr(elf_, static_cast<int>(i), &header) || header.p_type != PT_LOAD) continue;
            if (offset >= header.p_offset && offset - header.p_offset < header.p_filesz)
                return header.p_vaddr + (offset - header.p_offset) + bias_;
        }
        return std::nullopt;
    }

    /// Functions of the symbol tables by address; where two lie at one, the larger one's name.
    std::vector<Symbol> symbols() const {
        std::vector<Symbol> found;
        const int count = dwfl_module_getsymtab(module_);
        for (int i = 0; i < count; ++i) {
            GElf_Sym symbol;
            GElf_Addr address = 0;
            const char* name = dwfl_module_getsym_info(module_, i, &symbol, &address, nullptr, nullptr, nullptr);
            const int type = GELF_ST_TYPE(symbol.st_info);
            if (!name || !*name || (type != STT_FUNC && type != STT_GNU_IFUNC) || symbol.st_shndx == SHN_UNDEF)
                continue;
            found.push_back({address, address + symbol.st_size, name});
        }
        std::sort(found.begin(), found.end(),
                  [](const Symbol& a, const Symbol& b) { return a.from != b.from ? a.from < b.from : a.to > b.to; });
        for (size_t i = 0; i + 1 < found.size(); ++i)  // written by hand, and no size told
            if (found[i].to == found[i].from) found[i].to = found[i + 1].from;
        return found;
    }

private:
    std::string buildIdOf() const {
        const unsigned char* bytes = nullptr;
        GElf_Addr at = 0;
        const int size = dwfl_module_build_id(module_, &bytes, &at);
        std::string text;
        for (int i = 0; i < size; ++i) {
            char hex[3];
            std::snprintf(hex, sizeof hex, "%02x", bytes[i]);
            text += hex;
        }
        return text;
    }
    struct End {
        void operator()(Dwfl* dwfl) const { dwfl_end(dwfl); }
    };
    std::unique_ptr<Dwfl, End> dwfl_;
    Dwfl_Module* module_ = nullptr;
    Elf* elf_ = nullptr;
    GElf_Addr bias_ = 0;
    Dwarf* dwarf_ = nullptr;
    Dwarf_Addr dwarfBias_ = 0;
};

struct Place {
    uint64_t address;
    size_t index;  // in DebugInformation::places
};

uint32_t lineOf(int line) { return line > 0 ? static_cast<uint32_t>(line) : 0; }

/// What a compilation unit says of some places of its code.
class UnitReader {
public:
    /// `tree`: where the functions stand, which may be another file's unit than the lines.
    UnitReader(Dwarf_Die* unit, Dwarf_Die* tree, Dwarf_Addr bias, std::span<const Place> places,
               std::vector<CodeFunctions>& into)
        : unit_(unit), tree_(tree), bias_(bias), places_(places), into_(into) {}

    void read() {
        collect(tree_, 0);
        for (const Place& place : places_) {
            CodeFunctions& functions = into_[place.index];
            if (functions.empty()) continue;
            std::reverse(functions.begin(), functions.end());
            // Each was noted with the line in the one around it, from which it was inlined.
            for (size_t i = functions.size(); i-- > 1;) {
                functions[i].line = functions[i - 1].line;
                functions[i].lineFile = std::move(functions[i - 1].lineFile);
            }
            functions.front().line = 0;
            functions.front().lineFile.clear();
            int line = 0;
            Dwarf_Line* at = dwarf_getsrc_die(unit_, place.address - bias_);
            if (!at || dwarf_lineno(at, &line) != 0) continue;
            functions.front().line = lineOf(line);
            if (const char* file = dwarf_linesrc(at, nullptr, nullptr)) functions.front().lineFile = shownText(file);
        }
    }

private:
    void collect(Dwarf_Die* parent, int depth) {
        Dwarf_Die die;
        if (depth > kDeepestNesting || dwarf_child(parent, &die) != 0) return;
        do {
            switch (dwarf_tag(&die)) {
                case DW_TAG_subprogram:
                case DW_TAG_inlined_subroutine: {
                    const bool covers = note(&die);
                    if (covers || dwarf_tag(&die) == DW_TAG_subprogram) collect(&die, depth + 1);
                    break;
                }
                case DW_TAG_lexical_block:
                case DW_TAG_try_block:
                case DW_TAG_catch_block:
                case DW_TAG_namespace:
                case DW_TAG_module:
                case DW_TAG_class_type:
                case DW_TAG_structure_type: collect(&die, depth + 1); break;
                default: break;
            }
        } while (dwarf_siblingof(&die, &die) == 0);
    }

    /// Adds the function to each place it covers. Returns whether there is one. Of names for the same code, which
    /// assembler has, the first one stays.
    bool note(Dwarf_Die* function) {
        CodeFunction known;
        bool covers = false;
        const bool inlined = dwarf_tag(function) == DW_TAG_inlined_subroutine;
        Dwarf_Addr base = 0, begin = 0, end = 0;
        for (ptrdiff_t at = 0; (at = dwarf_ranges(function, at, &base, &begin, &end)) > 0;) {
            const auto first = std::lower_bound(places_.begin(), places_.end(), begin + bias_,
                                                [](const Place& place, uint64_t a) { return place.address < a; });
            for (auto place = first; place != places_.end() && place->address < end + bias_; ++place) {
                if (!inlined && !into_[place->index].empty()) continue;
                if (!covers) known = describe(function);
                covers = true;
                CodeFunctions& functions = into_[place->index];
                // Where a part of a function is inlined into the rest of it, that is one function.
                const bool itself = inlined && !functions.empty() && functions.back().isSame(known);
                if (!known.name.empty() && !itself) functions.push_back(known);
            }
        }
        return covers;
    }

    std::string nameOf(Dwarf_Die* function) {
        Dwarf_Attribute attribute;
        for (const unsigned int kind : {DW_AT_linkage_name, DW_AT_MIPS_linkage_name})
            if (dwarf_attr_integrate(function, kind, &attribute))
                if (const char* name = dwarf_formstring(&attribute)) return functionName(name);
        if (names_.empty()) {
            names_[0];  // looked for, also where there are none
            findNames(tree_, Around::Scope, {}, nullptr, 0);
        }
        const auto known = names_.find(rootOf(*function));
        if (known != names_.end()) return functionName(known->second.c_str());
        const char* name = dwarf_diename(function);
        return name ? functionName(name) : std::string();
    }

    /// Where the function stands that an inlined or separate piece of code is of.
    static Dwarf_Off rootOf(Dwarf_Die die) {
        Dwarf_Die other;
        Dwarf_Attribute attribute;
        constexpr int kMostSteps = 8;  // from an inlined function to its declaration
        for (int step = 0; step < kMostSteps; ++step) {
            if (!dwarf_attr(&die, DW_AT_abstract_origin, &attribute) &&
                !dwarf_attr(&die, DW_AT_specification, &attribute))
                break;
            if (!dwarf_formref_die(&attribute, &other)) break;
            die = other;
        }
        return dwarf_dieoffset(&die);
    }

    /// What an entry stands in.
    enum class Around : uint8_t {
        Scope,     // namespaces and classes, told as "game::Sail::"
        Function,  // told as `function`
        Lambda     // the same of the function that it stands in
    };
    /// Notes the names of functions that have no linkage name and stand in something: those of C stand in nothing.
    void findNames(Dwarf_Die* parent, Around around, const std::string& what, Dwarf_Die* function, int depth) {
        Dwarf_Die die;
        if (depth > kDeepestNesting || dwarf_child(parent, &die) != 0) return;
        do {
            const int tag = dwarf_tag(&die);
            const char* const name = dwarf_diename(&die);
            if (tag == DW_TAG_subprogram) {
                if (around == Around::Lambda)
                    names_[dwarf_dieoffset(&die)] = what;
                else if (around == Around::Scope && !what.empty() && name)
                    names_[dwarf_dieoffset(&die)] = what + name;
                findNames(&die, Around::Function, {}, &die, depth + 1);
            } else if (tag == DW_TAG_lexical_block) {
                findNames(&die, around, what, function, depth + 1);
            } else if (tag == DW_TAG_namespace || tag == DW_TAG_class_type || tag == DW_TAG_structure_type) {
                constexpr std::string_view kLambda = "lambda in ";
                const bool lambda = !name || std::string_view(name).substr(0, 7) == "<lambda";
                const std::string outside = around == Around::Function ? nameOf(function) : what;
                if (around == Around::Function && lambda && !outside.empty()) {
                    const bool inner = outside.compare(0, kLambda.size(), kLambda) == 0;
                    findNames(&die, Around::Lambda, inner ? outside : std::string(kLambda) + outside, nullptr,
                              depth + 1);
                } else {
                    const char* const nameless = tag == DW_TAG_namespace ? "(anonymous namespace)" : "(unnamed)";
                    const bool inFunction = around == Around::Function && !outside.empty();
                    findNames(&die, Around::Scope,
                              outside + (inFunction ? "::" : "") + (name ? name : nameless) + "::", nullptr, depth + 1);
                }
            }
        } while (dwarf_siblingof(&die, &die) == 0);
    }

    CodeFunction describe(Dwarf_Die* function) {
        CodeFunction known;
        known.name = nameOf(function);
        int line = 0;
        if (dwarf_decl_line(function, &line) == 0) known.declared = lineOf(line);
        if (const char* file = dwarf_decl_file(function)) known.file = shownText(file);
        Dwarf_Attribute attribute;
        Dwarf_Word called = 0;
        if (dwarf_attr(function, DW_AT_call_line, &attribute) && dwarf_formudata(&attribute, &called) == 0)
            known.line = static_cast<uint32_t>(std::min<Dwarf_Word>(called, UINT32_MAX));
        Dwarf_Files* files = nullptr;
        size_t count = 0;
        if (dwarf_attr(function, DW_AT_call_file, &attribute) && dwarf_formudata(&attribute, &called) == 0 &&
            dwarf_getsrcfiles(tree_, &files, &count) == 0 && called < count)
            if (const char* file = dwarf_filesrc(files, called, nullptr, nullptr)) known.lineFile = shownText(file);
        return known;
    }

    Dwarf_Die *unit_, *tree_;
    std::map<Dwarf_Off, std::string> names_;  // of functions by where they stand; empty: not looked for yet
    Dwarf_Addr bias_;
    std::span<const Place> places_;
    std::vector<CodeFunctions>& into_;
};

void readUnits(const CodeFile& file, const std::vector<Place>& places, std::vector<CodeFunctions>& into,
               const std::function<bool()>& goesOn) {
    Dwarf_CU* unit = nullptr;
    Dwarf_Die die, split;
    uint8_t type = 0;
    std::vector<Place> own;
    while (dwarf_get_units(file.dwarf(), unit, &unit, nullptr, &type, &die, &split) == 0) {
        if (goesOn && !goesOn()) return;
        if (type != DW_UT_compile && type != DW_UT_skeleton) continue;
        own.clear();
        Dwarf_Addr base = 0, begin = 0, end = 0;
        for (ptrdiff_t at = 0; (at = dwarf_ranges(&die, at, &base, &begin, &end)) > 0;) {
            const auto first = std::lower_bound(places.begin(), places.end(), begin + file.dwarfBias(),
                                                [](const Place& place, uint64_t a) { return place.address < a; });
            for (auto place = first; place != places.end() && place->address < end + file.dwarfBias(); ++place)
                own.push_back(*place);
        }
        if (own.empty()) continue;
        std::sort(own.begin(), own.end(), [](const Place& a, const Place& b) { return a.address < b.address; });
        const bool elsewhere = type == DW_UT_skeleton && dwarf_tag(&split) != DW_TAG_invalid;
        UnitReader(&die, elsewhere ? &split : &die, file.dwarfBias(), own, into).read();
    }
}

}  // namespace

/// Without parameters and what it returns.
static std::string bareName(std::string name) {
    // Parameters begin where the last parenthesis is opened; before the name, templates have the type they return.
    size_t at = name.rfind(')');
    if (at == std::string::npos) return name;
    for (int depth = 0; at > 0; --at) {
        depth += name[at] == ')' ? 1 : name[at] == '(' ? -1 : 0;
        if (!depth) break;
    }
    if (at > 0) name.resize(at);
    const size_t word = name.rfind("operator ");  // a conversion, new, delete
    int depth = 0;
    for (size_t i = word == std::string::npos ? name.size() : word; i-- > 0;) {
        const char c = name[i];
        depth += c == '>' || c == ')' || c == '}' ? 1 : c == '<' || c == '(' || c == '{' ? -1 : 0;
        if (c != ' ' || depth > 0) continue;
        name.erase(0, i + 1);
        break;
    }
    return name;
}

/// Where a name goes on with a lambda in the function before it: "Sail::trim() const::{lambda(int)#1}::operator()", or
/// "Sail::trim()::$_0::__invoke"; not where a template has one as its argument.
static size_t lambdaIn(std::string_view name) {
    int depth = 0;
    for (size_t i = 0; i < name.size(); ++i) {
        depth += name[i] == '<' || name[i] == '(' ? 1 : name[i] == '>' || name[i] == ')' ? -1 : 0;
        const std::string_view rest = name.substr(i);
        if (depth == 0 && (rest.starts_with("::{lambda(") || rest.starts_with("::$_"))) return i;
    }
    return std::string_view::npos;
}

std::string functionName(const char* linkageName) {
    int status = -1;
    const bool mangled = linkageName[0] == '_' && linkageName[1] == 'Z';
    const std::unique_ptr<char, decltype(&std::free)> written(
        mangled ? abi::__cxa_demangle(linkageName, nullptr, nullptr, &status) : nullptr, &std::free);
    if (status != 0 || !written) return shownText(linkageName);
    const std::string name = written.get();
    const size_t lambda = lambdaIn(name);
    return shownText(lambda == std::string::npos ? bareName(name) : "lambda in " + bareName(name.substr(0, lambda)));
}

DebugInformation readDebugInformation(const std::string& path, const std::string& buildId,
                                      std::span<const uint64_t> offsets, const std::function<bool()>& goesOn) {
    DebugInformation found;
    found.places.resize(offsets.size());
    const CodeFile file(path, buildId, found.state);
    if (!file.good()) return found;
    std::vector<Place> places;
    for (size_t i = 0; i < offsets.size(); ++i)
        if (const auto address = file.addressOf(offsets[i])) places.push_back({*address, i});
    std::sort(places.begin(), places.end(), [](const Place& a, const Place& b) { return a.address < b.address; });
    if (file.dwarf()) readUnits(file, places, found.places, goesOn);
    if (goesOn && !goesOn()) {
        found.cancelled = true;
        return found;
    }
    const std::vector<Symbol> symbols = file.symbols();
    for (const Place& place : places) {
        if (!found.places[place.index].empty()) continue;
        auto after = std::upper_bound(symbols.begin(), symbols.end(), place.address,
                                      [](uint64_t address, const Symbol& symbol) { return address < symbol.from; });
        if (after == symbols.begin()) continue;
        --after;
        while (after != symbols.begin() && std::prev(after)->from == after->from) --after;  // the larger one
        if (place.address < after->to) found.places[place.index].push_back({functionName(after->name), {}, 0, 0, {}});
    }
    return found;
}

}  // namespace fugato
