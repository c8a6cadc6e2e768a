// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_statistics.h"

#include <cmath>
#include <map>

#include "adding.h"
#include "core/explain/words/quantities.h"
#include "core/store/long_work.h"
#include "format/number_text.h"
#include "marker_parts.h"

namespace fugato {

namespace {

/// Works out the figures of one marker: counts and times from the sums of chunks, the rest from every occurrence.
class MarkerFigures {
public:
    MarkerFigures(const Recording& r, uint32_t site, const Scope& scope, uint32_t series, const Progress& progress)
        : r_(r),
          scope_(scope),
          progress_(progress),
          frames_(series < r.series.size() ? r.series[series].frames : none_),
          firstFrame_(frameFrom(scope.around().begin)),
          pastFrame_(frameFrom(scope.around().end)),
          made_(std::make_shared<MarkerStatistics>()),
          s_(*made_),
          paths_(lanePathsOf(r, site, scope)) {
        s_.site = site;
        s_.scope = scope;
    }

    std::shared_ptr<const MarkerStatistics> all() {
        addUp();
        if (!s_.count) return made_;
        parts_ = partsWith(r_, paths_, scope_);
        sums_.resize(threadsFor(parts_));
        // Every occurrence is looked at twice: for the buckets, and for the values in those that matter.
        if (!look() || !findPercentiles()) return nullptr;
        sumFrames();
        s_.durations = buckets_.bars();
        sumParts();
        return made_;
    }

private:
    struct PartSum {  // what a part comes to, until it has a name
        uint64_t count = 0;
        int64_t total = 0, longest = 0;
        void add(int64_t duration) {
            ++count;
            addTime(total, duration);
            longest = std::max(longest, duration);
        }
        void add(const PartSum& other) {
            count += other.count;
            addTime(total, other.total);
            longest = std::max(longest, other.longest);
        }
    };
    using ArgumentValue = std::tuple<uint32_t, ArgumentType, uint64_t>;  // key, type, value
    struct Sums {                                                        // of one thread
        Buckets buckets;
        int64_t shortest = INT64_MAX, longest = 0;
        std::vector<int64_t> inFrame;  // ns, by frame from the first in the scope
        std::vector<uint32_t> calls;
        std::vector<std::vector<PartSum>> paths;  // by lane and its own number of the path
        std::vector<PartSum> stages;              // by span of the state
        std::map<ArgumentValue, PartSum> arguments;
        std::map<uint32_t, PartSum> otherArguments;  // by key: with values beyond those
    };

    size_t frameFrom(int64_t time) const {
        return static_cast<size_t>(
            std::partition_point(frames_.begin(), frames_.end(), [&](const Frame& f) { return f.begin < time; }) -
            frames_.begin());
    }

    /// Count and times: whole chunks from their sums.
    void addUp() {
        for (size_t l = 0; l < r_.lanes.size(); ++l) {
            const LanePaths& paths = paths_[l];
            if (!paths.any) continue;
            for (const MarkerRow& row : r_.lanes[l].rows) {
                const auto add = [&](uint32_t path, uint64_t count, int64_t total) {
                    if (paths.isSite[path]) {
                        s_.count += count;
                        addTime(s_.self, total);
                        if (paths.outermost[path]) addTime(s_.total, total);
                    }
                    if (paths.below[path]) takeTime(s_.self, total);
                };
                const bool any = walkScope(
                    row, scope_,
                    [&](uint32_t chunk) {
                        const auto [first, past] = row.sumsOf(chunk);
                        for (const PathSum* sum = first; sum != past; ++sum) add(sum->path, sum->count, sum->total);
                    },
                    [&](uint32_t, int64_t, int64_t duration, uint32_t path, uint8_t) { add(path, 1, duration); },
                    [&](uint32_t index, int64_t ns) { add(row.lanePath(index), 0, ns); });
                if (!any) break;
            }
        }
    }

    /// Buckets of durations, the extremes, and what lies in each frame. Frames between two stretches count for none.
    bool look() {
        inScope_.resize(pastFrame_ - firstFrame_);
        for (size_t i = 0; i < inScope_.size(); ++i) inScope_[i] = scope_.contains(frames_[firstFrame_ + i].begin);
        s_.frames = static_cast<uint64_t>(std::count(inScope_.begin(), inScope_.end(), true));
        const bool looked = eachPart(parts_, sums_.size(), progress_, 0, 0.6,
                                     [&](size_t thread, const ChunkPart& part) { look(sums_[thread], part); });
        if (!looked) return false;
        s_.shortest = INT64_MAX;
        for (const Sums& sum : sums_) {
            buckets_.add(sum.buckets);
            s_.shortest = std::min(s_.shortest, sum.shortest);
            s_.longest = std::max(s_.longest, sum.longest);
        }
        return true;
    }
    void look(Sums& sum, const ChunkPart& part) const {
        lookAtArguments(sum, part);
        sum.paths.resize(r_.lanes.size());
        std::vector<PartSum>& paths = sum.paths[part.lane];
        paths.resize(r_.lanes[part.lane].paths.size());
        sum.inFrame.resize(inScope_.size());
        sum.calls.resize(inScope_.size());
        const LanePaths& of = paths_[part.lane];
        const MarkerRow& row = r_.lanes[part.lane].rows[part.row];
        size_t frame = std::clamp(frameFrom(row.begin(part.from)), firstFrame_, pastFrame_);
        const auto lookAtEach = [&](auto&& also) {
            row.forEach(part.from, part.to, [&](uint32_t, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                if (!of.isSite[path]) return;
                sum.buckets.add(duration);
                sum.shortest = std::min(sum.shortest, duration);
                also(begin, duration, path);
                while (frame < pastFrame_ && frames_[frame].begin <= begin) ++frame;  // the first that begins later
                if (frame == firstFrame_ || frames_[frame - 1].end <= begin) return;
                const size_t at = frame - 1 - firstFrame_;
                if (of.outermost[path]) addTime(sum.inFrame[at], duration);
                ++sum.calls[at];
            });
        };
        const State* const stages = r_.stages();
        const size_t spans = stages ? stages->spans.size() : 0;
        sum.stages.resize(spans);
        size_t stage = spans ? stageAfter(*stages, row.begin(part.from)) : 0;
        const int64_t lastBegin = row.begin(part.to - 1);
        const bool oneStage =
            !spans || (stage == stageAfter(*stages, lastBegin) && (!stage || lastBegin < stages->spans[stage - 1].end));
        const bool whole =
            part.from % MarkerRow::kChunk == 0 && part.to == std::min(row.size(), part.from + MarkerRow::kChunk);
        if (whole && oneStage) {  // its sums say the rest
            for (auto [one, past] = row.sumsOf(part.from >> MarkerRow::kChunkBits); one != past; ++one) {
                if (!of.isSite[one->path]) continue;
                const PartSum here{one->count, one->total, one->longest};
                paths[one->path].add(here);
                if (stage) sum.stages[stage - 1].add(here);
                sum.longest = std::max(sum.longest, one->longest);
            }
            return lookAtEach([](int64_t, int64_t, uint32_t) {});
        }
        lookAtEach([&](int64_t begin, int64_t duration, uint32_t path) {
            sum.longest = std::max(sum.longest, duration);
            paths[path].add(duration);
            while (stage < spans && stages->spans[stage].begin <= begin) ++stage;
            if (stage && begin < stages->spans[stage - 1].end) sum.stages[stage - 1].add(duration);
        });
    }

    static size_t stageAfter(const State& stages, int64_t time) {
        return static_cast<size_t>(std::partition_point(stages.spans.begin(), stages.spans.end(),
                                                        [&](const StateSpan& s) { return s.begin <= time; }) -
                                   stages.spans.begin());
    }
    void lookAtArguments(Sums& sum, const ChunkPart& part) const {
        constexpr size_t kMostValues = 4096;  // of all keys
        const Lane& lane = r_.lanes[part.lane];
        if (part.row >= lane.arguments.size()) return;
        const Column<Argument>& all = lane.arguments[part.row];
        auto at = std::lower_bound(all.begin(), all.end(), part.from,
                                   [](const Argument& a, uint32_t index) { return a.index < index; });
        const MarkerRow& row = lane.rows[part.row];
        for (; at != all.end() && at->index < part.to; ++at) {
            if (!paths_[part.lane].isSite[row.lanePath(at->index)]) continue;
            const ArgumentValue value(at->key, at->type, at->value);
            const auto known = sum.arguments.find(value);
            if (known != sum.arguments.end())
                known->second.add(row.duration(at->index));
            else
                (sum.arguments.size() < kMostValues ? sum.arguments[value] : sum.otherArguments[at->key])
                    .add(row.duration(at->index));
        }
    }

    /// The values of three ranks, from those occurrences only that lie in their buckets.
    bool findPercentiles() {
        const uint64_t count = buckets_.count();  // where what was kept is damaged, not what its sums say
        if (!count) return true;
        const auto rankOf = [&](double p) {  // nearest rank, from 0
            const auto rank = static_cast<uint64_t>(std::ceil(p * static_cast<double>(count)));
            return std::clamp<uint64_t>(rank, 1, count) - 1;
        };
        struct Wanted {
            int64_t& value;
            std::pair<size_t, uint64_t> place;
        };
        const Wanted wanted[] = {{s_.median, buckets_.at(rankOf(0.5))},
                                 {s_.p95, buckets_.at(rankOf(0.95))},
                                 {s_.p99, buckets_.at(rankOf(0.99))}};
        std::vector<std::array<std::vector<int64_t>, 3>> values(sums_.size());
        std::pair<int64_t, int64_t> borders[std::size(wanted)];
        for (size_t i = 0; i < std::size(wanted); ++i) borders[i] = Buckets::bordersOf(wanted[i].place.first);
        const auto within = [&](int64_t d, size_t i) {  // one comparison, and no jump for each border
            return static_cast<uint64_t>(d - borders[i].first) <
                   static_cast<uint64_t>(borders[i].second - borders[i].first);
        };
        const bool looked =
            eachPart(parts_, sums_.size(), progress_, 0.6, 1, [&](size_t thread, const ChunkPart& part) {
                const LanePaths& of = paths_[part.lane];
                const MarkerRow& row = r_.lanes[part.lane].rows[part.row];
                row.eachDuration(
                    part.from, part.to, [&](int64_t d) { return bool(within(d, 0) | within(d, 1) | within(d, 2)); },
                    [&](uint32_t at, int64_t duration) {
                        if (!of.isSite[row.lanePath(at)]) return;
                        for (size_t i = 0; i < std::size(wanted); ++i)
                            if (within(duration, i)) values[thread][i].push_back(duration);
                    });
            });
        if (!looked) return false;
        for (size_t i = 0; i < std::size(wanted); ++i) {
            std::vector<int64_t> all;
            for (const auto& of : values) all.insert(all.end(), of[i].begin(), of[i].end());
            if (wanted[i].place.second >= all.size()) continue;  // damaged: read again, they are others
            const auto at = all.begin() + static_cast<std::ptrdiff_t>(wanted[i].place.second);
            std::nth_element(all.begin(), at, all.end());
            wanted[i].value = *at;
        }
        return true;
    }

    void sumFrames() {
        uint64_t calls = 0;
        int64_t ns = 0;
        s_.firstFrame = static_cast<uint32_t>(firstFrame_);
        s_.inFrame.assign(inScope_.size(), -1);
        for (size_t i = 0; i < inScope_.size(); ++i) {
            if (!inScope_[i]) continue;
            uint32_t callsHere = 0;
            int64_t nsHere = 0;
            for (const Sums& sum : sums_) {
                if (sum.calls.empty()) continue;
                callsHere += sum.calls[i];
                addTime(nsHere, sum.inFrame[i]);
            }
            s_.inFrame[i] = nsHere;
            if (!callsHere) continue;
            ++s_.framesWithIt;
            calls += callsHere;
            addTime(ns, nsHere);
            if (s_.worstFrame != kNone && nsHere <= s_.worstFrameNs) continue;
            s_.worstFrame = static_cast<uint32_t>(firstFrame_ + i);
            s_.worstFrameNs = nsHere;
        }
        if (!s_.frames) return;
        s_.callsPerFrame = static_cast<double>(calls) / static_cast<double>(s_.frames);
        s_.nsPerFrame = static_cast<double>(ns) / static_cast<double>(s_.frames);
    }

    static std::vector<MarkerPart> ordered(const std::map<std::string, PartSum>& named) {
        std::vector<MarkerPart> parts;
        for (const auto& [name, part] : named) parts.push_back({name, part.count, part.total, part.longest});
        std::stable_sort(parts.begin(), parts.end(),
                         [](const MarkerPart& a, const MarkerPart& b) { return a.total > b.total; });
        return parts;
    }

    /// By stage, caller, lane and argument.
    void sumParts() {
        std::map<std::string, PartSum> stages, callers, lanes;
        std::map<std::string, std::map<std::string, PartSum>> arguments;  // by key and value
        std::map<std::string, uint64_t> others;
        for (const Sums& sum : sums_) {
            for (size_t i = 0; i < sum.stages.size(); ++i)
                if (sum.stages[i].count) stages[std::string(r_.text(r_.stages()->spans[i].value))].add(sum.stages[i]);
            for (size_t l = 0; l < sum.paths.size(); ++l)
                for (size_t p = 0; p < sum.paths[l].size(); ++p) {
                    const PartSum& part = sum.paths[l][p];
                    if (!part.count) continue;
                    const PathId caller = r_.paths[r_.lanes[l].paths[p]].parent;
                    callers[caller ? r_.pathText(caller, 3) : "no other marker"].add(part);
                    lanes[r_.lanes[l].name].add(part);
                }
            for (const auto& [value, part] : sum.arguments) {
                Argument one;
                one.type = std::get<ArgumentType>(value);
                one.value = std::get<uint64_t>(value);
                arguments[r_.keys[std::get<0>(value)]][r_.valueText(one)].add(part);
            }
            for (const auto& [key, part] : sum.otherArguments) others[r_.keys[key]] += part.count;
        }
        s_.byStage = ordered(stages);
        s_.byCaller = ordered(callers);
        s_.byLane = ordered(lanes);
        for (const auto& [key, values] : arguments) {
            MarkerArgument argument{key, ordered(values), others[key]};
            for (size_t i = kMostArgumentValues; i < argument.values.size(); ++i)
                argument.others += argument.values[i].count;
            if (argument.values.size() > kMostArgumentValues) argument.values.resize(kMostArgumentValues);
            s_.byArgument.push_back(std::move(argument));
        }
        const auto countOf = [](const MarkerArgument& argument) {
            uint64_t count = argument.others;
            for (const MarkerPart& value : argument.values) count += value.count;
            return count;
        };
        std::stable_sort(s_.byArgument.begin(), s_.byArgument.end(),
                         [&](const MarkerArgument& a, const MarkerArgument& b) { return countOf(a) > countOf(b); });
    }

    const Recording& r_;
    const Scope scope_;
    const Progress& progress_;
    const Column<Frame> none_;
    const Column<Frame>& frames_;
    const size_t firstFrame_, pastFrame_;
    const std::shared_ptr<MarkerStatistics> made_;
    MarkerStatistics& s_;
    const std::vector<LanePaths> paths_;  // by lane
    std::vector<bool> inScope_;           // by frame from the first
    std::vector<ChunkPart> parts_;
    std::vector<Sums> sums_;  // by thread
    Buckets buckets_;         // of all
};

}  // namespace

std::shared_ptr<const MarkerStatistics> statisticsOf(const Recording& recording, uint32_t site, const Scope& scope,
                                                     uint32_t series, const Progress& progress) {
    longWork("the figures of a marker");
    return MarkerFigures(recording, site, scope, series, progress).all();
}

std::vector<std::string> figuresOf(const MarkerStatistics& s) {
    if (!s.count) return {"It does not occur there"};
    std::vector<std::string> out{
        plural(s.count, "time", "times") + ", total " + durationText(s.total) + ", self " + durationText(s.self),
        "Median " + durationText(s.median) + ", 95th percentile " + durationText(s.p95) + ", 99th " +
            durationText(s.p99) + ", longest " + durationText(s.longest) + ", shortest " + durationText(s.shortest)};
    const std::string calls =
        s.callsPerFrame < 0.05 ? "less than 0.1" : fixedText(s.callsPerFrame, s.callsPerFrame < 10 ? 1 : 0);
    if (s.framesWithIt)
        out.push_back("In " + countText(s.framesWithIt) + " of " + plural(s.frames, "frame", "frames") + ": " + calls +
                      " a frame, " + durationText(static_cast<int64_t>(s.nsPerFrame)) + "; most in frame " +
                      countText(s.worstFrame) + ", " + durationText(s.worstFrameNs));
    return out;
}

}  // namespace fugato
