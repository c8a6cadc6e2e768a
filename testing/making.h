// SPDX-License-Identifier: GPL-3.0-or-later
//
// Recordings made at random, together with the plain list of what was told, to compare quick answers
// with slow ones.
#pragma once

#include <map>
#include <random>

#include "core/model/model_builder.h"

namespace fugato {

struct ToldMarker {
    uint32_t lane = 0, row = 0, index = 0;
    int64_t begin = 0, end = 0;
    std::vector<uint32_t> sites;  // positions, outermost first
    uint32_t parent = 0;          // index in the row above
    bool wait = false, insideWait = false;
};

struct Made {
    std::shared_ptr<const Recording> recording;
    std::vector<ToldMarker> markers;  // in the order in which they began, lane by lane
};

struct Making {
    uint32_t lanes = 3, sites = 8, depth = 6, events = 6000;
    int64_t step = 400;       // ns between events, at most
    uint32_t gapEvery = 0;    // now and then ten seconds pass
    uint32_t frameEvery = 0;  // on the first lane
    double waits = 0.1;
    bool roles = false;  // all lanes but the first do the same work
    uint32_t seed = 1;
    std::shared_ptr<Storage> storage = Storage::inMemory();

    Made make() const {
        std::mt19937 random(seed);
        Made made;
        ModelBuilder builder(storage);
        for (uint32_t i = 0; i < lanes; ++i)
            builder.define(
                LaneDefinition{i + 1, LaneKind::Thread, 0, "lane " + std::to_string(i), roles && i ? "crew" : ""});
        for (uint32_t i = 0; i < sites; ++i) {
            SiteDefinition site;
            site.id = i + 1;
            site.name = "site " + std::to_string(i);
            if (i % 4) site.category = i % 4 == 1 ? "sails" : "hull";
            builder.define(site);
        }
        builder.define(SeriesDefinition{1, 10'000, "loop"});
        builder.define(KeyDefinition{1, "boat"});
        for (uint32_t lane = 0; lane < lanes; ++lane) {
            struct Open {
                size_t marker;
                bool wait;
            };
            std::vector<Open> open;
            std::map<uint32_t, uint32_t> inRow;
            int64_t now = static_cast<int64_t>(random() % 1000);
            const auto told = [&](EventKind kind, uint32_t id = 0, uint64_t a = 0, uint64_t b = 0,
                                  std::string_view text = {}) {
                builder.event(lane + 1, {now, kind, id, a, b, text});
            };
            for (uint32_t i = 0; i < events; ++i) {
                now += static_cast<int64_t>(random()) % (step + 1);
                if (gapEvery && random() % gapEvery == 0) now += 10'000'000'000;
                // A tick: markers go on from one frame into the next.
                if (lane == 0 && frameEvery && i % frameEvery == 0) told(EventKind::FrameTick, 1);
                const bool begins = open.empty() || (open.size() < depth && random() % 2);
                if (begins) {
                    ToldMarker marker;
                    marker.lane = lane;
                    marker.row = static_cast<uint32_t>(open.size());
                    marker.index = inRow[marker.row]++;
                    marker.begin = marker.end = now;
                    const uint32_t site = random() % sites;
                    if (!open.empty()) {
                        const ToldMarker& above = made.markers[open.back().marker];
                        marker.sites = above.sites;
                        marker.parent = above.index;
                        marker.insideWait = above.wait || above.insideWait;
                    }
                    marker.sites.push_back(site);
                    marker.wait = random() % 1000 < waits * 1000;
                    marker.wait ? told(EventKind::WaitBegin, 1, site + 1, 1) : told(EventKind::MarkBegin, site + 1);
                    if (random() % 50 == 0)
                        told(EventKind::Argument, 1, 0, 2, random() % 2 ? "Outer Skerry" : "inner sound");
                    open.push_back({made.markers.size(), marker.wait});
                    made.markers.push_back(marker);
                } else {
                    made.markers[open.back().marker].end = now;
                    told(open.back().wait ? EventKind::WaitEnd : EventKind::MarkEnd);
                    open.pop_back();
                }
            }
            for (; !open.empty(); open.pop_back()) {
                made.markers[open.back().marker].end = ++now;
                told(open.back().wait ? EventKind::WaitEnd : EventKind::MarkEnd);
            }
        }
        made.recording = builder.finish();
        return made;
    }
};

/// An event of one of the lanes whose ids are 1, 2, …; the text it points to stays.
struct ToldEvent {
    uint32_t lane = 0;
    Event event;
};

/// Lanes told in turns, each going forward in time, of whatever there is: markers, waits of every kind, locks, links,
/// frames, arguments, states. Much of it does not fit together.
inline std::vector<ToldEvent> toldAtRandom(std::mt19937& random, int events, uint32_t lanes = 4) {
    std::vector<ToldEvent> all;
    std::vector<int64_t> now(lanes);
    for (int i = 0; i < events; ++i) {
        const uint32_t lane = random() % lanes;
        now[lane] += random() % 300;
        const uint32_t id = 1 + random() % 5;
        Event event{now[lane] * lanes + lane, EventKind::MarkBegin, id, 0, 0, {}};
        switch (random() % 12) {
            case 0: event.kind = EventKind::WaitBegin, event.a = 6, event.b = random() % 8; break;
            case 1: event.kind = EventKind::WaitEnd, event.a = random() % uint32_t(events); break;
            case 2: event.kind = EventKind::Taken; break;
            case 3: event.kind = EventKind::Given; break;
            case 4: event.kind = random() % 2 ? EventKind::FrameBegin : EventKind::FrameEnd; break;
            case 5: event.kind = EventKind::LinkOut, event.a = uint64_t(i); break;
            case 6: event.kind = EventKind::Argument, event.a = random() % 99; break;
            case 7: event.kind = EventKind::StateSet, event.text = "calm"; break;
            case 8: event.kind = EventKind::MarkEnd; break;
            case 9: event.kind = EventKind::MarkEnd; break;
            case 10: event.kind = random() % 400 ? EventKind::Outcome : EventKind::Lost, event.a = event.b = 1;
            default: break;
        }
        all.push_back({lane + 1, event});
    }
    return all;
}

/// The names that those events use.
inline void defineTold(ModelBuilder& builder, uint32_t lanes = 4) {
    for (uint32_t id = 1; id <= 6; ++id) {
        SiteDefinition site;
        site.id = id;
        site.name = "site " + std::to_string(id);
        builder.define(site);
        builder.define(ObjectDefinition{id, "object " + std::to_string(id)});
        builder.define(SeriesDefinition{id, 5'000, "series " + std::to_string(id)});
        builder.define(StateDefinition{id, "state " + std::to_string(id)});
        builder.define(KeyDefinition{id, "key " + std::to_string(id)});
    }
    for (uint32_t id = 1; id <= lanes; ++id)
        builder.define(LaneDefinition{id, LaneKind::Thread, 100 + id, "lane " + std::to_string(id), ""});
}

}  // namespace fugato
