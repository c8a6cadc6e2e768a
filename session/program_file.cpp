// SPDX-License-Identifier: GPL-3.0-or-later
#include "program_file.h"

#include <elf.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <vector>

namespace fugato {

namespace {

namespace fs = std::filesystem;

constexpr int kMostScripts = 4;                    // a script may be run by a script
constexpr char kRecorderName[] = "FUGATO_RECORD";  // stands in every program that carries the recorder

Failure wrong(const std::string& name, const std::string& why) { return {name + " " + why, false, false}; }

std::string found(const std::string& name, const std::string& folder) {
    const fs::path base = folder.empty() ? fs::current_path() : fs::path(folder);
    std::error_code none;
    if (name.find('/') != std::string::npos) {
        const fs::path path = (base / name).lexically_normal();
        return fs::exists(path, none) ? path.string() : std::string();
    }
    const char* const path = std::getenv("PATH");
    std::string all = path ? path : "/usr/local/bin:/usr/bin:/bin";
    for (size_t from = 0; from <= all.size();) {
        const size_t end = std::min(all.find(':', from), all.size());
        const fs::path one = base / (end == from ? "." : all.substr(from, end - from)) / name;
        if (access(one.c_str(), X_OK) == 0 && fs::is_regular_file(one, none)) return one.lexically_normal().string();
        from = end + 1;
    }
    return {};
}

/// The program that runs a script, with its path as it stands in the first line; empty for what is no script.
std::string interpreterIn(const std::string& begin) {
    if (begin.compare(0, 2, "#!") != 0) return {};
    const size_t from = begin.find_first_not_of(" \t", 2);
    if (from == std::string::npos) return {};
    std::string line = begin.substr(from, begin.find('\n', from) - from);
    std::string program = line.substr(0, line.find_first_of(" \t\r"));
    if (fs::path(program).filename() != "env") return program;
    // "/usr/bin/env python3" runs what is found by that name.
    const size_t at = line.find_first_not_of(" \t", program.size());
    if (at == std::string::npos || line[at] == '-') return program;
    return found(line.substr(at, line.find_first_of(" \t\r", at) - at), {});
}

bool holds(std::ifstream& file, const char* wanted) {
    const size_t length = std::strlen(wanted);
    std::string part(1 << 20, '\0');
    file.clear();
    file.seekg(0);
    for (size_t kept = 0;;) {
        file.read(part.data() + kept, static_cast<std::streamsize>(part.size() - kept));
        const size_t there = kept + static_cast<size_t>(file.gcount());
        if (std::string_view(part.data(), there).find(wanted) != std::string_view::npos) return true;
        if (there < part.size()) return false;
        kept = length - 1;
        std::copy(part.end() - static_cast<std::ptrdiff_t>(kept), part.end(), part.begin());
    }
}

#if defined(__x86_64__)
constexpr uint16_t kMachine = EM_X86_64;
#elif defined(__aarch64__)
constexpr uint16_t kMachine = EM_AARCH64;
#else
constexpr uint16_t kMachine = EM_NONE;
#endif

/// Why an ELF file cannot be recorded by the preloaded library; empty where it can. `name`: for sentences.
std::string whyNotPreloaded(std::ifstream& file, const std::string& path, const Elf64_Ehdr& header) {
    struct stat status {};
    const bool raises = ::stat(path.c_str(), &status) == 0 && (status.st_mode & (S_ISUID | S_ISGID));
    if (raises || getxattr(path.c_str(), "security.capability", nullptr, 0) > 0)
        return "runs with the rights of another user (setuid, setgid or capabilities), so that the system lets no "
               "library be loaded before it. Take these rights off a copy of it, or build it with the recorder.";
    for (unsigned i = 0; i < header.e_phnum && i < 1000; ++i) {
        Elf64_Phdr part{};
        file.clear();
        file.seekg(static_cast<std::streamoff>(header.e_phoff + uint64_t{i} * header.e_phentsize));
        if (!file.read(reinterpret_cast<char*>(&part), sizeof part)) break;
        if (part.p_type == PT_INTERP) return {};
    }
    return "is linked statically, so that no library can be loaded before it. Link it dynamically, or build it with "
           "the recorder.";
}

}  // namespace

Result<ProgramFile> lookAtProgram(const std::string& name, const std::string& folder) {
    if (name.empty()) return Failure{"No program was named."};
    ProgramFile program;
    program.path = found(name, folder);
    std::error_code none;
    if (program.path.empty())
        return wrong(name, "was not found" + std::string(name.find('/') == std::string::npos
                                                             ? " in the folders of PATH. Write its path with a /."
                                                             : "."));
    for (int i = 0; i < kMostScripts; ++i) {
        const std::string& path = program.path;
        if (fs::is_directory(path, none)) return wrong(path, "is a folder, not a program.");
        if (access(path.c_str(), X_OK) != 0) return wrong(path, "may not be run. Make it executable: chmod +x " + path);
        std::ifstream file(path, std::ios::binary);
        if (!file) return wrong(path, "may be run, but not read, so that it cannot be seen how to record it.");
        std::string begin(256, '\0');
        file.read(begin.data(), static_cast<std::streamsize>(begin.size()));
        begin.resize(static_cast<size_t>(file.gcount()));
        if (const std::string interpreter = interpreterIn(begin); !interpreter.empty()) {
            if (program.script.empty()) program.script = path;
            if (!fs::exists(interpreter, none))
                return wrong(path, "is a script for " + interpreter + ", which is not there.");
            program.path = interpreter;
            continue;
        }
        Elf64_Ehdr header{};
        std::memcpy(&header, begin.data(), std::min(begin.size(), sizeof header));
        if (begin.size() < EI_NIDENT || std::memcmp(header.e_ident, ELFMAG, SELFMAG) != 0) {
            // A shell runs what has no other mark as a script of its own.
            return wrong(path, "is neither a program of this system nor a script with a #! line.");
        }
        if (header.e_ident[EI_CLASS] != ELFCLASS64 || header.e_machine != kMachine)
            return wrong(path, "is for another processor than Fugato (" +
                                   std::string(header.e_ident[EI_CLASS] != ELFCLASS64 ? "32 bits" : "another machine") +
                                   "). Build it for this one, or build it with the recorder.");
        if (holds(file, kRecorderName)) {
            program.how = ProgramFile::How::Itself;
            return program;
        }
        if (const std::string why = whyNotPreloaded(file, path, header); !why.empty()) return wrong(path, why);
        return program;
    }
    return wrong(name, "is a script that is run by a script that is run by a script, and so on.");
}

}  // namespace fugato
