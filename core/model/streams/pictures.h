// SPDX-License-Identifier: GPL-3.0-or-later
//
// Pictures of the screen.
#pragma once

#include "found_in_lane.h"
#include "sorted_list.h"

namespace fugato {

class PictureStream {
public:
    void take(const FoundInLane& lane) {
        for (const auto& [number, picture] : lane.finds.pictures) pictures_.try_emplace(number, picture);
    }
    template <class Place>
    void fill(Recording& r, Place& place) {
        std::vector<Picture> pictures;
        for (const auto& [number, picture] : pictures_) pictures.push_back(picture);
        std::stable_sort(pictures.begin(), pictures.end(), byTime);
        r.pictures = Column<Picture>::of(place, pictures);
    }
    template <class A>
    static void describe(A& archive, Recording& r) {
        archive(r.pictures);
    }

private:
    std::map<uint32_t, Picture> pictures_;  // by number
};

}  // namespace fugato
