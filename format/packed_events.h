// SPDX-License-Identifier: GPL-3.0-or-later
//
// Events of one lane as compressed columns: the payload of a PackedEvents block, described in
// docs/recording-format.md. Functions here share nothing and may run on any thread.
#pragma once

#include <fugato_layout.hpp>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace fugato {

/// What the payload's columns take when they are unpacked, as it says itself; nothing where it is no such payload.
/// No column takes more than the events that are claimed, and texts at most kMostTextBytes.
std::optional<uint64_t> unpackedBytes(std::string_view payload, uint32_t count);
inline constexpr uint64_t kMostTextBytes = 64u << 20;

/// So many events stand in one packed block at most; a block that claims more is refused.
inline constexpr uint32_t kMostPackedEvents = 1u << 18;

/// The columns before compression, for measuring them against other compressors.
std::vector<std::string> eventColumns(const std::vector<layout::RawEvent>& events, uint64_t firstTicks);
std::string packEvents(const std::vector<layout::RawEvent>& events, uint64_t firstTicks, int level = 19);
/// Calls `take` with the events in order, several at a time (their texts are valid during the call only).
/// Returns false where the payload does not hold `count` events.
bool unpackEvents(std::string_view payload, uint32_t count, uint64_t firstTicks,
                  const std::function<void(std::span<const layout::RawEvent>)>& take);

}  // namespace fugato
