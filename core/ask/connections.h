// SPDX-License-Identifier: GPL-3.0-or-later
//
// What a marker is connected with: who ended its wait and whose waits it ended, who asked for its work and what it
// asked for, who held the lock it waited for and who waited for what it held, operations that it began or ended. From
// either end one finds the other. May run on any thread.
#pragma once

#include <memory>
#include <optional>

#include "core/model/recording.h"

namespace fugato {

struct Connection {
    enum class Kind : uint8_t {
        EndedBy,
        LikelyEndedBy,  // seen of many such waits, not told
        WokenBy,        // the system told it
        EndedWait,
        AskedForBy,
        AskedFor,
        HeldBy,
        HeldUp,
        BeganOperation,
        EndedOperation,
    };
    Kind kind{};
    int64_t here = 0, there = 0;  // instants: at the marker, and at the other end
    uint32_t lane = kNone;        // of the other end
    MarkerRef marker;             // there; invalid where none is open
    uint32_t object = kNone;      // a lock; of operations the site
    int64_t time = 0;             // held, or waited; ns
};

struct Connections {
    std::vector<Connection> list;  // by kind, each in order of time
    bool more = false;             // there are more than kMostConnections of a kind
};
inline constexpr size_t kMostConnections = 24;  // of each kind

/// Null where `progress` cancelled it. What begins elsewhere costs a look at all links, of which as many as
/// kMostLinksLookedAt are followed.
inline constexpr size_t kMostLinksLookedAt = 4'000'000;
std::shared_ptr<const Connections> connectionsOf(const Recording& recording, const MarkerRef& marker,
                                                 const Progress& progress = {});

/// "the wait was ended by ‘Scene’ on GPU graphics".
std::string connectionText(const Recording& recording, const Connection& connection);

/// The marker in which something happened at an instant: the one of this path that is open then, where it is told; else
/// the innermost one. Invalid where there is none; path 0 is outside of all.
MarkerRef markerAtInstant(const Recording& recording, uint32_t lane, int64_t time, std::optional<PathId> path = {});

}  // namespace fugato
