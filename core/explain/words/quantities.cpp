// SPDX-License-Identifier: GPL-3.0-or-later
#include "quantities.h"

#include <cmath>
#include <cstdlib>

#include "format/number_text.h"

namespace fugato {

std::string msText(int64_t ns, int decimals) { return fixedText(static_cast<double>(ns) * 1e-6, decimals); }

std::string signedMsText(int64_t ns, int decimals) { return (ns < 0 ? "−" : "+") + msText(std::abs(ns), decimals); }

std::string durationText(int64_t ns) {
    const auto value = static_cast<double>(ns);
    const double size = std::abs(value);
    if (size >= 60e9) {
        const auto seconds = static_cast<int64_t>(std::llround(value * 1e-9));
        return std::to_string(seconds / 60) + " min " + std::to_string(std::abs(seconds) % 60) + " s";
    }
    if (size >= 1e9) return fixedText(value * 1e-9, 2) + " s";
    if (size >= 1e6) return fixedText(value * 1e-6, size >= 1e8 ? 0 : 1) + " ms";
    if (size >= 1e3) return fixedText(value * 1e-3, size >= 1e5 ? 0 : 1) + " µs";
    return std::to_string(ns) + " ns";
}

std::string instantText(int64_t ns) {
    const uint64_t us = static_cast<uint64_t>(std::abs(ns)) / 1000, part = us % 1'000'000;
    const auto three = [](uint64_t digits) { return std::to_string(1000 + digits).substr(1); };
    return (ns < 0 ? "−" : "") + countText(us / 1'000'000) + "." + three(part / 1000) + "\u202f" + three(part % 1000) +
           " s";
}

std::string exactText(int64_t ns) {
    const uint64_t size = ns < 0 ? 0 - static_cast<uint64_t>(ns) : static_cast<uint64_t>(ns);
    const auto [unit, name] = size >= 1'000'000'000 ? std::pair{uint64_t{1'000'000'000}, " s"}
                              : size >= 1'000'000   ? std::pair{uint64_t{1'000'000}, " ms"}
                              : size >= 1000        ? std::pair{uint64_t{1000}, " µs"}
                                                    : std::pair{uint64_t{1}, " ns"};
    std::string out = (ns < 0 ? "−" : "") + countText(size / unit);
    const std::string digits = unit > 1 ? std::to_string(unit + size % unit).substr(1) : std::string();
    for (size_t i = 0; i < digits.size(); i += 3) out += (i ? "\u202f" : ".") + digits.substr(i, 3);
    return out + name;
}

std::string bytesText(uint64_t bytes) {
    if (bytes < 1000) return std::to_string(bytes) + " B";
    const auto in = [&](double unit, const char* name, int decimals) {
        return fixedText(static_cast<double>(bytes) / unit, decimals) + " " + name;
    };
    if (bytes < 100'000) return in(1e3, "kB", 1);
    return bytes < 1'000'000 ? in(1e3, "kB", 0) : bytes < 1'000'000'000 ? in(1e6, "MB", 1) : in(1e9, "GB", 1);
}

std::string countText(uint64_t count) {
    std::string digits = std::to_string(count);
    if (digits.size() <= 3) return digits;
    std::string out;
    for (size_t i = 0; i < digits.size(); ++i) {
        if (i && (digits.size() - i) % 3 == 0) out += "\u202f";
        out += digits[i];
    }
    return out;
}

std::string plural(uint64_t count, const std::string& one, const std::string& many) {
    return countText(count) + " " + (count == 1 ? one : many);
}

}  // namespace fugato
