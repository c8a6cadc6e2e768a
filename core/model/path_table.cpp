// SPDX-License-Identifier: GPL-3.0-or-later
#include "path_table.h"

namespace fugato {

PathId PathTable::add(PathId parent, uint32_t site) {
    const auto made = static_cast<PathId>(nodes_.size());
    nodes_.push_back({parent, site, nodes_[parent].depth + 1});
    const auto put = [this](PathId path) {
        size_t at = place(nodes_[path].parent, nodes_[path].site);
        while (places_[at & (places_.size() - 1)]) ++at;
        places_[at & (places_.size() - 1)] = path;
    };
    if (places_.size() < 2 * nodes_.size()) {
        places_.assign(places_.empty() ? 64 : places_.size() * 2, 0);
        for (PathId path = 1; path < nodes_.size(); ++path) put(path);
    } else {
        put(made);
    }
    return made;
}

bool PathTable::contains(PathId ancestor, PathId path) const {
    while (nodes_[path].depth > nodes_[ancestor].depth) path = nodes_[path].parent;
    return path == ancestor;
}

PathId PathTable::common(PathId a, PathId b) const {
    while (a != b) {
        if (nodes_[a].depth >= nodes_[b].depth)
            a = nodes_[a].parent;
        else
            b = nodes_[b].parent;
    }
    return a;
}

}  // namespace fugato
