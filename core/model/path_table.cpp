// SPDX-License-Identifier: GPL-3.0-or-later
#include "path_table.h"

namespace fugato {

PathId PathTable::add(PathId parent, uint32_t site) {
    const auto made = static_cast<PathId>(nodes_.size());
    nodes_.push_back({parent, site, nodes_[parent].depth + 1});
    places_[keyOf(parent, site)] = made;
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
