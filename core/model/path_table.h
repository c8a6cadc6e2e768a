// SPDX-License-Identifier: GPL-3.0-or-later
//
// Every distinct chain of nested markers, as a tree: node 0 is "outside any marker". Not thread safe
// while it grows.
#pragma once

#include <tsl/robin_map.h>

#include <cstddef>
#include <cstdint>
#include <utility>
#include <vector>

namespace fugato {

using PathId = uint32_t;  // a marker together with its callers; 0: outside any marker

inline constexpr uint32_t kNone = UINT32_MAX;

class PathTable {
public:
    struct Node {
        PathId parent = 0;
        uint32_t site = kNone;
        uint32_t depth = 0;  // number of markers on the path
    };
    PathTable() : nodes_(1) {}
    /// One that is only read from now on.
    explicit PathTable(std::vector<Node> nodes) : nodes_(std::move(nodes)) {}
    const Node& operator[](PathId path) const { return nodes_[path]; }
    size_t size() const { return nodes_.size(); }
    const std::vector<Node>& nodes() const { return nodes_; }
    PathId child(PathId parent, uint32_t site) {
        const auto found = places_.find(keyOf(parent, site));
        return found != places_.end() ? found->second : add(parent, site);
    }
    bool contains(PathId ancestor, PathId path) const;  // also true where they are the same
    PathId common(PathId a, PathId b) const;

private:
    static uint64_t keyOf(PathId parent, uint32_t site) { return static_cast<uint64_t>(parent) << 32 | site; }
    struct Hash {
        size_t operator()(uint64_t key) const { return static_cast<size_t>(key * 0x9e3779b97f4a7c15ull >> 32); }
    };
    PathId add(PathId parent, uint32_t site);

    std::vector<Node> nodes_;
    tsl::robin_map<uint64_t, PathId, Hash> places_;  // by parent and site; empty where nodes_ was handed over
};

}  // namespace fugato
