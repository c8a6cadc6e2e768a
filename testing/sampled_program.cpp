// SPDX-License-Identifier: GPL-3.0-or-later
#include "sampled_program.h"

#include <dlfcn.h>
#include <unistd.h>

#include <cstring>
#include <fugato_layout.hpp>

namespace shore {

static volatile int depth = 0;

__attribute__((always_inline)) static inline void readHeader() {
    for (int i = 0; i < 7; ++i) depth = depth + 5 * i;
}

struct Chart {
    __attribute__((noinline)) void load();
};
void Chart::load() {
    readHeader();
    unpack_rows();
    depth = depth - 1;
}

template <class Depth>
__attribute__((noinline)) Depth sound(Depth at) {
    for (int i = 0; i < 9; ++i) depth = depth + i * i;
    return at + static_cast<Depth>(depth);
}

__attribute__((noinline)) static void findCourse() {
    depth = static_cast<int>(sound<long>(depth)) + 2;
    for (int i = 0; i < 11; ++i) depth = depth ^ i;
}

__attribute__((noinline)) static auto anchored() {
    return [](int fathoms) {
        for (int i = 0; i < 13; ++i) depth = depth + fathoms * i;
    };
}

__attribute__((noinline)) static void runRegatta() {
    Chart().load();
    findCourse();
    depth = depth + 4;
}

}  // namespace shore

namespace fugato {

namespace {

const void* addressOf(Sampled what) {
    using Method = void (shore::Chart::*)();
    const Method load = &shore::Chart::load;
    void* address = nullptr;
    switch (what) {
        case Sampled::RunRegatta: return reinterpret_cast<const void*>(&shore::runRegatta);
        case Sampled::FindCourse: return reinterpret_cast<const void*>(&shore::findCourse);
        case Sampled::Sound: return reinterpret_cast<const void*>(&shore::sound<long>);
        case Sampled::Anchored: return reinterpret_cast<const void*>(static_cast<void (*)(int)>(shore::anchored()));
        case Sampled::UnpackRows: return dlsym(RTLD_DEFAULT, "unpack_rows");
        case Sampled::LoadChart: std::memcpy(&address, &load, sizeof address); return address;
    }
    return nullptr;
}

/// Where a function lies in its file.
uint64_t offsetOf(Sampled what) {
    const void* address = addressOf(what);
    Dl_info info{};
    if (!address || !dladdr(address, &info)) return 0;
    return static_cast<uint64_t>(static_cast<const char*>(address) - static_cast<const char*>(info.dli_fbase));
}

}  // namespace

std::string sampledProgramPath() {
    char path[4096];
    const ssize_t size = readlink("/proc/self/exe", path, sizeof path);
    return {path, size > 0 ? static_cast<size_t>(size) : 0};
}

uint64_t placeIn(Sampled what, uint64_t further) {
    return (what == Sampled::UnpackRows ? kLibraryAt : kProgramAt) + offsetOf(what) + further;
}

std::string stackBytes(const std::vector<uint64_t>& addresses) {
    std::string bytes;
    uint64_t before = 0;
    for (const uint64_t address : addresses) {
        layout::appendVarint(bytes, layout::zigzag(static_cast<int64_t>(address - before)));
        before = address;
    }
    return bytes;
}

std::string stackBytes(const std::vector<Sampled>& functions) {
    std::vector<uint64_t> addresses;
    for (const Sampled function : functions) addresses.push_back(placeIn(function, addresses.empty() ? 4 : 5));
    return stackBytes(addresses);
}

static std::string hexOf(const std::string& bytes) {
    std::string hex;
    for (const char byte : bytes) {
        constexpr char kDigits[] = "0123456789abcdef";
        hex += kDigits[static_cast<unsigned char>(byte) >> 4];
        hex += kDigits[static_cast<unsigned char>(byte) & 15];
    }
    return hex;
}

std::string stackText(const std::vector<uint64_t>& addresses) { return hexOf(stackBytes(addresses)); }
std::string stackText(const std::vector<Sampled>& functions) { return hexOf(stackBytes(functions)); }

}  // namespace fugato
