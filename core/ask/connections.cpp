// SPDX-License-Identifier: GPL-3.0-or-later
#include "connections.h"

#include <algorithm>
#include <array>
#include <map>
#include <unordered_map>

#include "core/explain/words/quantities.h"
#include "core/explain/words/templates.h"
#include "core/model/likely_enders.h"
#include "link_ends.h"

namespace fugato {

namespace {

constexpr size_t kMostBefore = 64;             // waits before an instant that may reach over it
constexpr size_t kMostOperations = 100'000;    // begun before the marker ends
constexpr size_t kTellEach = size_t{1} << 16;  // progress

MarkerRef aroundWith(const Recording& r, MarkerRef marker, PathId path) {
    const auto& rows = r.lanes[marker.lane].rows;
    while (r.pathOf(marker) != path) {
        if (!marker.row) return {};
        marker = {marker.lane, marker.row - 1, rows[marker.row].parent(marker.index)};
    }
    return marker;
}

class Finder {
public:
    Finder(const Recording& r, const MarkerRef& marker, const Progress& progress)
        : r_(r),
          marker_(marker),
          lane_(r.lanes[marker.lane]),
          path_(r.pathOf(marker)),
          begin_(lane_.rows[marker.row].begin(marker.index)),
          end_(lane_.rows[marker.row].end(marker.index)),
          progress_(progress) {}

    std::shared_ptr<const Connections> all() {
        linksIn();
        wait();
        operations();
        heldUp();
        if (!linksOut()) return nullptr;
        const auto place = [](const Connection& c) { return std::tuple(c.kind, c.there, c.lane, c.object); };
        std::sort(made_->list.begin(), made_->list.end(),
                  [&](const Connection& a, const Connection& b) { return place(a) < place(b); });
        return made_;
    }

private:
    using Kind = Connection::Kind;

    void add(Kind kind, int64_t here, int64_t there, uint32_t lane, std::optional<PathId> path, uint32_t object = kNone,
             int64_t time = 0) {
        if (lane >= r_.lanes.size()) return;  // of columns that could not be read
        size_t& count = counts_[static_cast<size_t>(kind)];
        if (count == kMostConnections) {
            made_->more = true;
            return;
        }
        ++count;
        made_->list.push_back({kind, here, there, lane, markerAtInstant(r_, lane, there, path), object, time});
    }

    void linksIn() {
        const auto& links = lane_.linkIns;
        auto link = std::partition_point(links.begin(), links.end(), [&](const LinkEnd& l) { return l.time < begin_; });
        for (; link != links.end() && link->time <= end_; ++link) {
            if (link->path != path_) continue;
            if (const auto* source = r_.linkSource(link->link))
                add(link->endsWait ? Kind::EndedBy : Kind::AskedForBy, link->time, source->time, source->lane,
                    source->path);
        }
    }

    void wait() {
        const Wait* const wait = lane_.waitOf(marker_);
        if (!wait) return;
        if (wait->object < r_.holds.size()) {
            // Holds are sorted by their end; one lane holds a lock at a time, so that few reach into the wait.
            const Column<Hold>& holds = r_.holds[wait->object];
            auto hold =
                std::partition_point(holds.begin(), holds.end(), [&](const Hold& h) { return h.end <= begin_; });
            for (; hold != holds.end() && hold->begin < end_; ++hold)
                if (hold->lane != marker_.lane)
                    add(Kind::HeldBy, begin_, std::min(hold->end, end_), hold->lane, hold->path, wait->object,
                        hold->end - hold->begin);
        }
        if (counts_[static_cast<size_t>(Kind::EndedBy)] || counts_[static_cast<size_t>(Kind::HeldBy)]) return;
        const auto known = std::partition_point(
            r_.likelyEnders.begin(), r_.likelyEnders.end(),
            [&](const LikelyEnder& l) { return std::pair(l.lane, l.path) < std::pair(marker_.lane, path_); });
        if (known != r_.likelyEnders.end() && known->lane == marker_.lane && known->path == path_)
            if (const EndedWork work = workEndedNear(r_, known->group, marker_.lane, end_); work.lane != kNone)
                return add(Kind::LikelyEndedBy, end_, work.time, work.lane, {});
        const auto after = std::partition_point(lane_.wakeUps.begin(), lane_.wakeUps.end(),
                                                [&](const WakeUp& w) { return w.time <= end_; });
        if (after != lane_.wakeUps.begin() && (after - 1)->time >= begin_ && (after - 1)->lane < r_.lanes.size())
            add(Kind::WokenBy, (after - 1)->time, (after - 1)->time, (after - 1)->lane, {});
    }

    void operations() {
        const auto past = std::partition_point(r_.operations.begin(), r_.operations.end(),
                                               [&](const Operation& o) { return o.begin <= end_; });
        size_t looked = 0;
        for (auto it = past; it != r_.operations.begin() && looked < kMostOperations; ++looked) {
            const Operation& o = *--it;
            if (o.site >= r_.sites.size()) continue;
            const bool began = o.begin >= begin_ && o.beganOn == marker_.lane && o.askedBy == path_;
            if (began && o.endedOn != kNone) add(Kind::BeganOperation, o.begin, o.end, o.endedOn, {}, o.site);
            if (o.endedOn == marker_.lane && o.end >= begin_ && o.end <= end_ &&
                markerAtInstant(r_, marker_.lane, o.end) == marker_)
                add(Kind::EndedOperation, o.end, o.begin, o.beganOn, o.askedBy, o.site);
        }
    }

    /// Who waited for what this marker held.
    void heldUp() {
        for (uint32_t object = 0; object < r_.holds.size(); ++object) {
            const Column<Hold>& holds = r_.holds[object];
            auto hold =
                std::partition_point(holds.begin(), holds.end(), [&](const Hold& h) { return h.end <= begin_; });
            for (; hold != holds.end() && hold->begin < end_; ++hold)
                if (hold->lane == marker_.lane && hold->path == path_) waitersFor(object, *hold);
        }
    }

    void waitersFor(uint32_t object, const Hold& hold) {
        for (uint32_t lane = 0; lane < r_.lanes.size(); ++lane) {
            if (lane == marker_.lane) continue;
            const auto& waits = r_.lanes[lane].waits;
            auto at =
                std::partition_point(waits.begin(), waits.end(), [&](const Wait& w) { return w.begin < hold.end; });
            for (size_t looked = 0; at != waits.begin() && looked < kMostBefore; ++looked) {
                const Wait& wait = *--at;
                if (wait.object == object && wait.end > hold.begin)
                    add(Kind::HeldUp, hold.begin, wait.begin + 1, lane, r_.lanes[lane].rows[wait.row].path(wait.index),
                        object, wait.end - wait.begin);
            }
        }
    }

    /// Where the links end that were given out in this marker. False where it was cancelled.
    bool linksOut() {
        std::unordered_map<uint64_t, int64_t> given;  // when
        size_t looked = 0;
        for (const Recording::LinkSource& source : r_.linkSources) {
            if (++looked % kTellEach == 0 && progress_ &&
                !progress_(static_cast<double>(looked) / static_cast<double>(r_.linkSources.size() + 1)))
                return false;
            if (source.lane != marker_.lane || source.path != path_ || source.time < begin_ || source.time > end_)
                continue;
            given.emplace(source.link, source.time);
            if (given.size() > kMostConnections) break;
        }
        looked = 0;
        bool goesOn = true;
        if (!given.empty())
            eachLinkEnd(r_, begin_, INT64_MAX, kMostLinksLookedAt, [&](uint32_t lane, const LinkEnd& link) {
                if (++looked % kTellEach == 0 && progress_) goesOn = progress_(0.9);
                const auto found = given.find(link.link);
                if (found != given.end())
                    add(link.endsWait ? Kind::EndedWait : Kind::AskedFor, found->second, link.time, lane, link.path);
                return goesOn;
            });
        return goesOn;
    }

    const Recording& r_;
    const MarkerRef marker_;
    const Lane& lane_;
    const PathId path_;
    const int64_t begin_, end_;
    const Progress& progress_;
    std::shared_ptr<Connections> made_ = std::make_shared<Connections>();
    std::array<size_t, 10> counts_{};
};

}  // namespace

MarkerRef markerAtInstant(const Recording& r, uint32_t lane, int64_t time, std::optional<PathId> path) {
    // One that ends at the instant belongs to it, and one that begins at it, too.
    for (const int64_t at : {time, time + 1}) {
        MarkerRef found = r.innermostBefore(lane, at);
        if (found.valid() && path) found = aroundWith(r, found, *path);
        if (found.valid()) return found;
    }
    return {};
}

std::shared_ptr<const Connections> connectionsOf(const Recording& recording, const MarkerRef& marker,
                                                 const Progress& progress) {
    return Finder(recording, marker, progress).all();
}

std::string connectionText(const Recording& r, const Connection& c) {
    const std::string path = c.marker.valid() ? r.pathText(r.pathOf(c.marker)) : std::string("no marker"),
                      lane = r.lanes[c.lane].name, apart = durationText(std::abs(c.there - c.here));
    const auto object = [&] { return c.object < r.objects.size() ? r.objects[c.object] : std::string(); };
    switch (c.kind) {
        case Connection::Kind::EndedBy: return say::kToEndedBy({{"path", path}, {"lane", lane}});
        case Connection::Kind::LikelyEndedBy: return say::kToLikelyEndedBy({{"path", path}, {"lane", lane}});
        case Connection::Kind::WokenBy: return say::kToWokenBy({{"path", path}, {"lane", lane}});
        case Connection::Kind::EndedWait: return say::kToWaitsEnded({{"path", path}, {"lane", lane}});
        case Connection::Kind::AskedForBy: return say::kToAskedForBy({{"path", path}, {"lane", lane}, {"time", apart}});
        case Connection::Kind::AskedFor: return say::kToAskedFor({{"path", path}, {"lane", lane}, {"time", apart}});
        case Connection::Kind::HeldBy:
            return say::kToHeldByMarker(
                {{"object", object()}, {"path", path}, {"lane", lane}, {"time", durationText(c.time)}});
        case Connection::Kind::HeldUp:
            return say::kToHeldUp(
                {{"object", object()}, {"path", path}, {"lane", lane}, {"time", durationText(c.time)}});
        case Connection::Kind::BeganOperation:
            return say::kToOperationBegun({{"object", r.sites[c.object].name}, {"path", path}, {"lane", lane}});
        case Connection::Kind::EndedOperation:
            return say::kToOperationEnded({{"object", r.sites[c.object].name}, {"path", path}, {"lane", lane}});
    }
    return {};
}

}  // namespace fugato
