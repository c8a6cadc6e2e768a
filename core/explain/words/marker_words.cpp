// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_words.h"

#include <algorithm>

#include "core/store/long_work.h"
#include "format/number_text.h"
#include "quantities.h"
#include "templates.h"

namespace fugato {

namespace {

constexpr size_t kMostHolders = 8, kMostArguments = 12, kMostLetters = 200;

/// What of a text can be shown in a line.
std::string shortened(std::string text) {
    if (text.size() <= kMostLetters) return text;
    size_t cut = kMostLetters;
    while (cut && (text[cut] & 0xC0) == 0x80) --cut;  // not within a letter
    return text.substr(0, cut) + "…";
}

class Words {
public:
    Words(const Recording& r, const Explanation* e, const MarkerRef& marker)
        : r_(r),
          e_(e),
          marker_(marker),
          lane_(r.lanes[marker.lane]),
          row_(lane_.rows[marker.row]),
          path_(row_.path(marker.index)),
          flags_(row_.flags(marker.index)),
          site_(r.siteOf(path_)),
          begin_(row_.begin(marker.index)),
          end_(row_.end(marker.index)) {}

    MarkerWords all() {
        out_.name = site_.name;
        out_.category = site_.category;
        if (!site_.description.empty()) tell(site_.description);
        tell(say::kMarkerTimes({{"time", durationText(end_ - begin_)},
                                {"lane", lane_.name},
                                {"self", durationText(r_.selfTime(marker_))}}));
        tell(say::kMarkerBegins({{"begin", instantText(begin_ - r_.begin)}}));
        if (flags_ & kMarkerWait) sayWait();
        if (e_) sayFrame();
        sayLink();
        sayArguments();
        if (flags_ & kMarkerChangedNothing) tell(say::kMarkerIdle());
        if (site_.longestNs && end_ - begin_ > site_.longestNs)
            tell(say::kMarkerLonger({{"expected", durationText(site_.longestNs)}}));
        if (const std::string split = splitText(lane_.splitBetween(begin_, end_)); !split.empty()) tell(split);
        if (flags_ & kMarkerEndRepaired) tell(say::kMarkerNoEnd());
        if (!site_.file.empty()) tell(site_.file + ":" + std::to_string(site_.line));
        return std::move(out_);
    }

private:
    void tell(std::string line) { out_.lines.push_back(std::move(line)); }

    void sayWait() {
        const Wait* wait = lane_.waitOf(marker_);
        if (!wait) return;
        const bool object = wait->object < r_.objects.size();
        tell((object ? say::kMarkerWaitsFor : say::kMarkerWaits)(
            {{"kind", wordOf(wait->kind)}, {"object", object ? r_.objects[wait->object] : std::string()}}));
        if (!object) return;
        // Holds are sorted by their end; one lane holds a lock at a time, so that few reach into the wait.
        const Column<Hold>& holds = r_.holds[wait->object];
        auto hold = std::partition_point(holds.begin(), holds.end(), [&](const Hold& h) { return h.end <= begin_; });
        for (size_t told = 0; hold != holds.end() && told < kMostHolders; ++hold) {
            if (hold->begin >= end_) break;
            if (hold->lane == marker_.lane) continue;
            tell(say::kMarkerHeldBy({{"holder", r_.lanes[hold->lane].name},
                                     {"path", r_.pathText(hold->path)},
                                     {"time", durationText(hold->end - hold->begin)}}));
            ++told;
        }
    }

    void sayFrame() {
        const uint32_t frame = r_.series[e_->series].frameAt(begin_);
        if (frame == kNone || frame >= e_->frames.size()) return;
        const Frame& f = e_->frame(frame);
        const int64_t inside = std::min(end_, f.end) - std::max(begin_, f.begin);
        if (inside > 0 && f.duration() > 0)
            tell(say::kMarkerOfFrame(
                {{"part", fixedText(100.0 * static_cast<double>(inside) / static_cast<double>(f.duration()), 1)},
                 {"frame", countText(frame)}}));
    }

    /// Where the work, or the end of a wait, came from.
    void sayLink() {
        const auto& links = lane_.linkIns;
        auto link = std::partition_point(links.begin(), links.end(), [&](const LinkEnd& l) { return l.time < begin_; });
        for (; link != links.end() && link->time <= end_; ++link) {
            if (link->path != path_) continue;
            const auto source = r_.linkSource(link->link);
            if (!source) continue;
            return tell(say::kMarkerLinked({{"path", r_.pathText(source->path)},
                                            {"lane", r_.lanes[source->lane].name},
                                            {"time", durationText(link->time - source->time)}}));
        }
    }

    void sayArguments() {
        const auto [from, to] = lane_.argumentsOf(marker_.row, marker_.index);
        const size_t count = std::min<size_t>(static_cast<size_t>(to - from), kMostArguments);
        for (const Argument* argument = from; argument != from + count; ++argument)
            tell(r_.keys[argument->key] + " = " + shortened(r_.valueText(*argument)));
    }

    const Recording& r_;
    const Explanation* const e_;
    const MarkerRef marker_;
    const Lane& lane_;
    const MarkerRow& row_;
    const PathId path_;
    const uint8_t flags_;
    const Site& site_;
    const int64_t begin_, end_;
    MarkerWords out_;
};

}  // namespace

MarkerWords markerWords(const Recording& recording, const Explanation* explanation, const MarkerRef& marker) {
    longWork("words about a marker");
    return Words(recording, explanation, marker).all();
}

std::string splitText(const TimeSplit& split) {
    if (!split.known()) return {};
    std::string words = split.ran ? say::kRan({{"time", durationText(split.ran)}}) : say::kDidNotRun();
    if (split.ready) words += ", " + say::kReadyFor({{"time", durationText(split.ready)}});
    if (split.blocked) words += ", " + say::kBlockedFor({{"time", durationText(split.blocked)}});
    return words;
}

std::string scheduleText(const Recording& r, const Lane& lane, int64_t time) {
    const ScheduleSpan* span = lane.scheduleAt(time);
    if (!span) return {};
    const std::string core = span->core == kNone ? std::string() : r.lanes[span->core].name;
    const std::string took = durationText(span->end - span->begin);
    if (span->state == ThreadState::Running) return say::kRunningOn({{"core", core}, {"time", took}});
    if (span->state == ThreadState::Blocked) return say::kBlockedNow({{"time", took}});
    if (span->core == kNone) return say::kReadyNow({{"time", took}});
    const Column<CoreSpan>& had = r.lanes[span->core].coreSpans;
    const auto at = std::partition_point(had.begin(), had.end(), [&](const CoreSpan& s) { return s.end <= time; });
    if (at == had.end() || at->begin > time) return say::kReadyNow({{"time", took}});
    return say::kReadyNowHad({{"time", took}, {"program", r.osThreadText(at->thread)}, {"core", core}});
}

}  // namespace fugato
