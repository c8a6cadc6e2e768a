// SPDX-License-Identifier: GPL-3.0-or-later
//
// Operations in a scope, with their layers, and file requests: those that took long enough, the longest first. Costs a
// look at every operation and wait in it. May run on any thread.
#pragma once

#include <optional>
#include <string>

#include "scope.h"

namespace fugato {

struct ListedOperation {
    std::string what;  // "Position report"; of a file request its marker
    std::string path;  // of a file, where it is known
    int64_t begin = 0, end = 0;
    uint32_t beganOn = 0, endedOn = kNone;  // lanes; kNone: it was never ended
    std::optional<int64_t> bytes;           // of a file request, where it is known
    int64_t code = 0;                       // 0: succeeded
    std::string result;                     // what it said at its end
    MarkerRef marker;                       // of a file request
    /// What it passed through, one after the other.
    struct Layer {
        std::string name;
        uint32_t lane = 0;
        int64_t begin = 0, end = 0;
    };
    std::vector<Layer> layers;
    bool file() const { return marker.valid(); }
};

struct OperationList {
    std::vector<ListedOperation> longest;  // at most kMostOperations
    uint64_t count = 0;                    // that took long enough
    uint64_t shorter = 0;                  // that did not
};
inline constexpr size_t kMostOperations = 100'000;

/// Those that overlap the scope and took `least` ns or more. Null where `progress` cancelled it.
std::shared_ptr<const OperationList> operationsIn(const Recording& recording, const Scope& scope, int64_t least,
                                                  const Progress& progress = {});

}  // namespace fugato
