// SPDX-License-Identifier: GPL-3.0-or-later
//
// Which lanes' work likely ends a wait of which the program told nobody who did. That cannot be seen of one wait, but
// of many: where nearly all waits of a marker end when work of the same lanes does, and hardly ever does such work end
// at other instants of these waits, it is that work which they wait for. The figures: docs/explanation.md.
#pragma once

#include "recording.h"

namespace fugato {

/// Costs one look at every wait, and a few thousand at markers. Reads the lanes, their groups, links and locks.
std::vector<LikelyEnder> likelyEnders(const Recording& recording);

/// When and on which lane of `group` work ended nearest to `time`; the lane is kNone where none did within
/// kEndsTogether. Not on `besides`.
struct EndedWork {
    uint32_t lane = kNone;
    int64_t time = 0;
};
EndedWork workEndedNear(const Recording& recording, uint32_t group, uint32_t besides, int64_t time);
/// Clocks of devices differ from the threads', and waking a thread takes its time.
inline constexpr int64_t kEndsTogether = 200'000;  // ns

}  // namespace fugato
