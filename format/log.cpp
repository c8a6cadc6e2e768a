// SPDX-License-Identifier: GPL-3.0-or-later
#include "log.h"

#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>

#include <array>

#include "shown_text.h"

namespace fugato {

namespace {

constexpr std::array<std::string_view, 5> kWords{"debug", "info", "warning", "error", "off"};  // as in LogLevel
constexpr std::array kLevels{spdlog::level::debug, spdlog::level::info, spdlog::level::warn, spdlog::level::err,
                             spdlog::level::off};

spdlog::logger& logger() {
    static const auto made = [] {
        auto log = std::make_shared<spdlog::logger>("fugato", std::make_shared<spdlog::sinks::stderr_sink_mt>());
        log->set_pattern("%H:%M:%S.%e %n %l: %v");
        log->set_level(spdlog::level::off);
        return log;
    }();
    return *made;
}

}  // namespace

bool setLogLevel(std::string_view word) {
    for (size_t i = 0; i < kWords.size(); ++i)
        if (word == kWords[i]) return logger().set_level(kLevels[i]), true;
    return false;
}

void log(LogLevel level, const std::string& text) {
    const auto of = kLevels[static_cast<size_t>(level)];
    if (logger().should_log(of)) logger().log(of, "{}", shownText(text));
}

}  // namespace fugato
