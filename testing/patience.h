// SPDX-License-Identifier: GPL-3.0-or-later
//
// How long tests wait for what must happen. A wait ends as soon as it has happened, so a long patience costs nothing
// where all is well, and a busy machine under a sanitizer gets the time it needs.
#pragma once

#include <QtTest>

namespace fugato {
inline constexpr int kPatience = 120'000;  // in milliseconds
}

/// These go on with the test's events until a condition holds; the test fails if it never does.
#define EVENTUALLY(...) QTRY_VERIFY_WITH_TIMEOUT((__VA_ARGS__), fugato::kPatience)
#define EVENTUALLY_ELSE_SAY(condition, message) QTRY_VERIFY2_WITH_TIMEOUT(condition, message, fugato::kPatience)
#define EVENTUALLY_EQUAL(actual, expected) QTRY_COMPARE_WITH_TIMEOUT(actual, expected, fugato::kPatience)
