// SPDX-License-Identifier: GPL-3.0-or-later
#include "symbols.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fugato_mutex.hpp>
#include <map>
#include <set>

#include "cached_symbols.h"
#include "core/model/stack_places.h"
#include "core/store/long_work.h"
#include "core/store/side_by_side.h"

namespace fugato {

namespace {

using FileState = DebugInformation::State;

/// The instruction that is executed: the one before that to which a call returns.
uint64_t instructionAt(uint64_t address, bool calling) { return calling && address ? address - 1 : address; }

std::string fileNameOf(const std::string& path) { return path.substr(path.rfind('/') + 1); }

constexpr size_t kSamplesAtOnce = 4096;
constexpr double kWorthTelling = 0.05;  // of the call stacks

/// Every instruction that call stacks name, ascending. Empty where cancelled, too.
std::vector<uint64_t> instructionsOf(const Recording& r, const std::function<bool(double)>& goesOn) {
    const size_t threads = threadsFor(r.stackCount() / (8 * kSamplesAtOnce));
    struct Seen {
        tsl::robin_map<uint64_t, bool> stacks, instructions;  // by key; by address
    };
    std::vector<Seen> seen(threads);
    std::atomic<size_t> next{0};
    std::atomic<bool> stop{false};
    sideBySide(threads, [&](size_t thread) {
        for (size_t from; (from = next.fetch_add(kSamplesAtOnce)) < r.stackCount() && !stop;) {
            if (thread == 0 && !goesOn(static_cast<double>(from) / static_cast<double>(r.stackCount()))) stop = true;
            for (size_t i = from; i < std::min(r.stackCount(), from + kSamplesAtOnce); ++i) {
                const StackSample& sample = r.stack(i);
                if (!seen[thread].stacks.try_emplace(stackKey(sample), true).second) continue;
                for (uint32_t k = 0; k < sample.count; ++k)
                    seen[thread].instructions.try_emplace(instructionAt(r.stackAddresses[sample.first + k], k > 0),
                                                          true);
            }
        }
    });
    std::vector<uint64_t> all;
    if (stop) return all;
    for (const auto& part : seen)
        for (const auto& [address, is] : part.instructions) all.push_back(address);
    std::sort(all.begin(), all.end());
    all.erase(std::unique(all.begin(), all.end()), all.end());
    return all;
}

}  // namespace

class SymbolsBuilder {
public:
    SymbolsBuilder(const Recording& recording, const std::string& folder) : r_(recording), folder_(folder) {
        symbols_ = std::make_shared<Symbols>();
        symbols_->functions.push_back({});  // what lies in no module
    }

    std::shared_ptr<const Symbols> build(const Progress& progress) {
        const auto goesOn = [&](double part) { return !progress || progress(part); };
        constexpr double kGathered = 0.1;  // of the work
        instructions_ = instructionsOf(r_, [&](double part) { return goesOn(kGathered * part); });
        if (!goesOn(kGathered)) return nullptr;
        shareOut();
        found_.resize(symbols_->modules.size());
        std::atomic<size_t> next{0}, done{0};
        std::atomic<bool> stop{false};
        Mutex asking;  // whichever thread is at work asks: one file may take by far the longest
        sideBySide(threadsFor(found_.size()), [&](size_t) {
            for (size_t m; (m = next++) < found_.size() && !stop; ++done)
                lookUp(m, [&] {
                    const double part = static_cast<double>(done) / static_cast<double>(found_.size());
                    const Lock one(asking);
                    if (!stop && !goesOn(kGathered + (1 - kGathered) * part)) stop = true;
                    return !stop;
                });
        });
        if (stop || !goesOn(1)) return nullptr;
        putTogether();
        findCutStacks();
        return symbols_;
    }

private:
    struct Wanted {
        uint32_t module = kNone;
        uint64_t offset = 0;
    };

    /// Which instruction lies in which file, and where in it.
    void shareOut() {
        std::map<std::pair<std::string, std::string>, uint32_t> numberOf;
        struct Part {
            uint64_t begin, end;
            uint64_t offset;
            uint32_t module;
        };
        std::map<uint64_t, Part> parts;  // by begin; what was loaded later is what was there
        for (const Module& module : r_.modules) {
            if (!module.bytes || module.address + module.bytes < module.address) continue;
            const auto number = static_cast<uint32_t>(symbols_->modules.size());
            const auto [known, isNew] = numberOf.try_emplace({module.path, module.buildId}, number);
            if (isNew) symbols_->modules.push_back({module.path, module.buildId, {}, 0});
            const uint64_t end = module.address + module.bytes;
            auto at = parts.lower_bound(module.address);
            if (at != parts.begin() && std::prev(at)->second.end > module.address) --at;
            while (at != parts.end() && at->second.begin < end) at = parts.erase(at);
            parts[module.address] = {module.address, end, module.offset, known->second};
        }
        wanted_.resize(instructions_.size());
        for (size_t i = 0; i < instructions_.size(); ++i) {
            auto at = parts.upper_bound(instructions_[i]);
            if (at == parts.begin()) continue;
            const Part& part = std::prev(at)->second;
            if (instructions_[i] >= part.end) continue;
            wanted_[i] = {part.module, instructions_[i] - part.begin + part.offset};
            ++symbols_->modules[part.module].places;
        }
    }

    /// The functions of one file, kept ones where all are there.
    void lookUp(size_t number, const std::function<bool()>& goesOn) {
        Symbols::ModuleFile& module = symbols_->modules[number];
        std::set<uint64_t> offsets;
        for (const Wanted& wanted : wanted_)
            if (wanted.module == number) offsets.insert(wanted.offset);
        if (offsets.empty()) return;
        const std::string path = symbolCachePath(folder_, module.buildId);
        CachedSymbols& known = found_[number];
        if (!path.empty()) known = readCachedSymbols(path);
        std::vector<uint64_t> missing;
        for (const uint64_t offset : offsets)
            if (!known.places.count(offset)) missing.push_back(offset);
        if (!missing.empty()) {
            DebugInformation read = readDebugInformation(module.path, module.buildId, missing, goesOn);
            if (read.cancelled) return;
            const bool readable = read.state == FileState::Whole || read.state == FileState::SymbolsOnly;
            known.state = read.state;
            for (size_t i = 0; i < missing.size(); ++i)
                if (readable) known.places[missing[i]] = std::move(read.places[i]);
            if (readable && !path.empty()) cacheSymbols(path, known);
        }
        module.state = known.state;
    }

    void putTogether() {
        std::map<std::tuple<uint32_t, std::string, std::string, uint32_t>, FunctionId> known;
        const auto functionOf = [&](uint32_t module, const CodeFunction& f) {
            const auto [at, isNew] = known.try_emplace({module, f.name, f.file, f.declared},
                                                       static_cast<FunctionId>(symbols_->functions.size()));
            if (isNew) symbols_->functions.push_back({f.name, module, f.file, f.declared});
            return at->second;
        };
        std::map<std::string, uint32_t> files;
        const auto fileOf = [&](const CodeFunction& f) {
            const std::string& name = f.lineFile.empty() ? f.file : f.lineFile;
            if (name.empty() || !f.line) return kNone;
            const auto [at, isNew] = files.try_emplace(name, static_cast<uint32_t>(symbols_->files.size()));
            if (isNew) symbols_->files.push_back(name);
            return at->second;
        };
        symbols_->indexOf_.reserve(instructions_.size());
        for (size_t i = 0; i < instructions_.size(); ++i) {
            const Wanted& wanted = wanted_[i];
            symbols_->indexOf_[instructions_[i]] = static_cast<uint32_t>(i);
            const size_t before = symbols_->places_.size();
            if (wanted.module != kNone) {
                const auto& places = found_[wanted.module].places;
                if (const auto at = places.find(wanted.offset); at != places.end())
                    for (const CodeFunction& f : at->second)
                        symbols_->places_.push_back({functionOf(wanted.module, f), f.line, fileOf(f)});
            }
            if (symbols_->places_.size() == before)
                symbols_->places_.push_back({wanted.module == kNone ? 0 : functionOf(wanted.module, {}), 0, kNone});
            symbols_->from_.push_back(static_cast<uint32_t>(symbols_->places_.size()));
        }
    }

    /// Stacks in which nothing of the program itself is found, and that do not end in the C library, which starts
    /// programs and threads.
    void findCutStacks() {
        constexpr size_t kLookedAt = 1 << 16;
        constexpr uint32_t kProgram = 0;  // the first module that was told
        std::vector<Symbols::Place> stack;
        const size_t step = std::max<size_t>(1, r_.stackCount() / kLookedAt);
        size_t looked = 0;
        for (size_t i = 0; i < r_.stackCount(); i += step, ++looked) {
            const StackSample& sample = r_.stack(i);
            if (!sample.count) continue;
            symbols_->stackOf(r_, sample, stack);
            const auto moduleOf = [&](const Symbols::Place& place) {
                return symbols_->functions[place.function].module;
            };
            const uint32_t outermost = moduleOf(stack.front());
            if (outermost != kNone && symbols_->tells(stack.front().function) &&
                std::none_of(stack.begin(), stack.end(), [&](auto& place) { return moduleOf(place) == kProgram; }))
                ++symbols_->modules[outermost].endsStacks;
        }
        for (Symbols::ModuleFile& module : symbols_->modules) module.endsStacks /= std::max(1.0, double(looked));
    }

    const Recording& r_;
    const std::string folder_;
    std::shared_ptr<Symbols> symbols_;
    std::vector<uint64_t> instructions_;
    std::vector<Wanted> wanted_;        // by instruction
    std::vector<CachedSymbols> found_;  // by module
};

std::span<const Symbols::Place> Symbols::at(uint64_t address, bool calling) const {
    static const Place kNowhere;
    const auto found = indexOf_.find(instructionAt(address, calling));
    if (found == indexOf_.end()) return {&kNowhere, 1};
    const uint32_t begin = from_[found->second], end = from_[found->second + 1];
    return {places_.data() + begin, end - begin};
}

void Symbols::stackOf(const Recording& recording, const StackSample& sample, std::vector<Place>& into) const {
    into.clear();
    for (uint32_t k = sample.count; k-- > 0;) {
        const std::span<const Place> here = at(recording.stackAddresses[sample.first + k], k > 0);
        into.insert(into.end(), here.rbegin(), here.rend());
    }
}

std::string Symbols::nameOf(FunctionId function) const {
    constexpr size_t kLong = 60;
    std::string name = functions[function].name;
    // The C library calls what it offers by names of its own, such as __GI___libc_read.
    const size_t all = name.size();
    for (const std::string_view prefix : {"__GI_", "__libc_"})
        if (name.rfind(prefix, 0) == 0) name.erase(0, prefix.size());
    if (name.size() < all) name.erase(0, std::min(name.find_first_not_of('_'), name.size()));
    static const std::string kAnonymous = "(anonymous namespace)::";  // tells nothing
    for (size_t at; (at = name.find(kAnonymous)) != std::string::npos;) name.erase(at, kAnonymous.size());
    if (name.empty()) return moduleOf(function).rfind("linux-vdso", 0) == 0 ? "system clock" : "code without a name";
    if (name.size() <= kLong || name.find("operator") != std::string::npos) return name;
    std::string shorter;
    int depth = 0;
    for (const char c : name) {
        depth -= c == '>' && depth > 0;
        if (depth == 0) shorter += c;
        if (c == '<' && depth++ == 0) shorter += "…";
    }
    return shorter;
}

std::string Symbols::moduleOf(FunctionId function) const {
    const uint32_t module = functions[function].module;
    return module == kNone ? std::string() : fileNameOf(modules[module].path);
}

std::string Symbols::fullName(FunctionId function) const {
    const std::string module = moduleOf(function);
    return nameOf(function) + (module.empty() ? "" : " of " + module);
}

bool Symbols::tells(FunctionId function) const {
    const auto begins = [](const std::string& text, std::initializer_list<const char*> with) {
        return std::any_of(with.begin(), with.end(), [&](const char* first) { return text.rfind(first, 0) == 0; });
    };
    const std::string module = moduleOf(function);
    return !module.empty() &&
           !begins(module, {"libc.so", "libm.so", "libpthread.so", "libstdc++.so", "ld-linux", "linux-vdso"}) &&
           !begins(functions[function].name, {"std::", "__gnu_cxx::"});
}

std::vector<std::string> Symbols::missing() const {
    constexpr const char* kOwn = "libfugato-preload";  // of no interest to the person
    std::vector<std::string> sentences;
    std::vector<std::pair<size_t, std::string>> withoutLines;  // places in call stacks, name
    for (const ModuleFile& module : modules) {
        if (!module.places || fileNameOf(module.path).rfind(kOwn, 0) == 0) continue;
        const std::string name = fileNameOf(module.path), noNames = "Functions of " + name + " have no names: ";
        const bool isFile = module.path.find('/') != std::string::npos;  // not what the system itself puts there
        switch (module.state) {
            case FileState::Missing:
                if (isFile) sentences.push_back(noNames + module.path + " is not there, or may not be read.");
                break;
            case FileState::Changed:
                sentences.push_back(noNames + module.path +
                                    " is another build than the one recorded. Record again, or put that one back.");
                break;
            case FileState::Unreadable:
                sentences.push_back(noNames + module.path + " cannot be read as a program.");
                break;
            case FileState::SymbolsOnly: withoutLines.emplace_back(module.places, name); break;
            case FileState::Whole: break;
        }
        if (module.endsStacks >= kWorthTelling)
            sentences.push_back(std::to_string(std::lround(100 * module.endsStacks)) + " % of the call stacks end in " +
                                name + ", which was compiled without frame pointers: they do not tell who called it.");
    }
    if (!withoutLines.empty()) {
        constexpr size_t kMostNamed = 3;
        std::stable_sort(withoutLines.begin(), withoutLines.end(),
                         [](const auto& a, const auto& b) { return a.first > b.first; });
        std::string names;
        for (size_t i = 0; i < std::min(kMostNamed, withoutLines.size()); ++i)
            names += (i ? ", " : "") + withoutLines[i].second;
        if (withoutLines.size() > kMostNamed)
            names += " and " + std::to_string(withoutLines.size() - kMostNamed) + " more";
        sentences.push_back(
            "Without debug information (compile with -g, or install the debug package), so that only "
            "functions in the symbol table have names, without lines: " +
            names + ".");
    }
    return sentences;
}

std::shared_ptr<const Symbols> symbolsOf(const Recording& recording, const std::string& folder,
                                         const Progress& progress) {
    longWork("looking up functions");
    return SymbolsBuilder(recording, folder).build(progress);
}

}  // namespace fugato
