// SPDX-License-Identifier: MIT
#include "run_context.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/random.h>
#include <sys/utsname.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <ctime>
#include <string_view>

#include "fugato_layout.hpp"

namespace fugato::recording {

namespace {

std::string contentOf(const char* path) {
    std::string text;
    const int fd = ::open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0) return text;
    char part[4096];
    for (ssize_t count; text.size() < 64 * 1024 && (count = ::read(fd, part, sizeof part)) > 0;)
        text.append(part, static_cast<size_t>(count));
    ::close(fd);
    return text;
}

/// What follows `key` and its separator on its line.
std::string valueOf(const std::string& text, std::string_view key) {
    for (size_t at = text.find(key); at != std::string::npos; at = text.find(key, at + 1)) {
        if (at && text[at - 1] != '\n') continue;
        size_t from = at + key.size();
        while (from < text.size() &&
               (text[from] == ' ' || text[from] == '\t' || text[from] == ':' || text[from] == '='))
            ++from;
        std::string value = text.substr(from, text.find('\n', from) - from);
        if (value.size() >= 2 && value.front() == '"' && value.back() == '"') value = value.substr(1, value.size() - 2);
        return value;
    }
    return {};
}

std::string powerSource() {
    std::string found;
    if (DIR* dir = opendir("/sys/class/power_supply")) {
        while (const dirent* entry = readdir(dir)) {
            if (entry->d_name[0] == '.') continue;
            const std::string folder = std::string("/sys/class/power_supply/") + entry->d_name;
            const std::string online = firstLineOf((folder + "/online").c_str());
            if (!online.empty()) found = online == "1" ? "mains" : found.empty() ? "battery" : found;
        }
        closedir(dir);
    }
    return found;
}

}  // namespace

std::string firstLineOf(const char* path) {
    std::string text = contentOf(path);
    text.resize(std::min(text.size(), text.find('\n')));
    return text;
}

std::string randomUuid() {
    uint64_t bits[2];
    if (getrandom(bits, sizeof bits, GRND_NONBLOCK) != static_cast<ssize_t>(sizeof bits)) {
        timespec now{};
        clock_gettime(CLOCK_REALTIME, &now);
        const uint64_t start[] = {static_cast<uint64_t>(now.tv_sec), static_cast<uint64_t>(now.tv_nsec),
                                  static_cast<uint64_t>(getpid()), reinterpret_cast<uintptr_t>(&now)};
        const XXH128_hash_t hash = XXH3_128bits(start, sizeof start);
        bits[0] = hash.high64;
        bits[1] = hash.low64;
    }
    return layout::uuidText(bits[0], bits[1], 4);
}

void tellRunContext(const std::function<void(const std::string&, const std::string&)>& tell) {
    const auto tellIf = [&](const char* key, const std::string& value) {
        if (!value.empty()) tell(key, value);
    };
    tellIf("processor", valueOf(contentOf("/proc/cpuinfo"), "model name"));
    tell("cores", std::to_string(sysconf(_SC_NPROCESSORS_ONLN)));
    const std::string memory = valueOf(contentOf("/proc/meminfo"), "MemTotal");
    if (!memory.empty()) tell("memory", std::to_string(std::atoll(memory.c_str()) / 1024) + " MB");
    std::string system = valueOf(contentOf("/etc/os-release"), "PRETTY_NAME");
    utsname kernel{};
    if (uname(&kernel) == 0)
        system += (system.empty() ? "" : ", ") + std::string(kernel.sysname) + " " + kernel.release;
    tellIf("system", system);
    const std::string up = firstLineOf("/proc/uptime");
    if (!up.empty()) tell("up-time", std::to_string(std::atoll(up.c_str()) / 60) + " min");
    const std::string load = firstLineOf("/proc/loadavg");
    tellIf("load before", load.substr(0, load.find(' ')));
    tellIf("power", powerSource());
    tellIf("power mode", firstLineOf("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor"));
    tell("process", std::to_string(getpid()));
}

}  // namespace fugato::recording
