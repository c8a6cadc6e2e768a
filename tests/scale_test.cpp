// SPDX-License-Identifier: GPL-3.0-or-later
//
// Large recordings: narrow columns, summaries, storage in files, indexes, and everything that is asked
// of them, each compared with a plain slow computation.
#include <fcntl.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "core/ask/marker_groupings.h"
#include "core/ask/marker_statistics.h"
#include "core/ask/occurrence_list.h"
#include "core/ask/search.h"
#include "core/explain/causes/explain.h"
#include "core/model/open_recording.h"
#include "core/model/recording_index.h"
#include "testing/children.h"
#include "testing/making.h"
#include "testing/said.h"
#include "testing/scaled_recording.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

/// What a table of a range must say, worked out marker by marker.
struct SlowRow {
    uint64_t count = 0;
    int64_t total = 0, self = 0, longest = 0;
    bool operator==(const SlowRow&) const = default;
};
using SlowTable = std::map<std::pair<uint32_t, std::vector<uint32_t>>, SlowRow>;  // by lane and by the sites of a path

bool overlaps(const ToldMarker& m, const TimeRange& s) {
    return m.begin < s.end && (m.end > s.begin || m.begin >= s.begin);
}
bool overlaps(const ToldMarker& m, const Scope& scope) {
    return scope.has(m.lane) && std::any_of(scope.stretches.begin(), scope.stretches.end(),
                                            [&](const TimeRange& stretch) { return overlaps(m, stretch); });
}
int64_t inside(const ToldMarker& m, const Scope& scope) {
    int64_t sum = 0;
    for (const TimeRange& s : scope.stretches)
        sum += std::max<int64_t>(0, std::min(m.end, s.end) - std::max(m.begin, s.begin));
    return sum;
}

SlowTable slowTable(const Made& made, const Scope& scope) {
    SlowTable table;
    for (const ToldMarker& m : made.markers) {
        if (!overlaps(m, scope)) continue;
        SlowRow& row = table[{m.lane, m.sites}];
        ++row.count;
        row.total += inside(m, scope);
        row.self += inside(m, scope);
        row.longest = std::max(row.longest, m.end - m.begin);
        if (m.sites.size() > 1)
            table[{m.lane, std::vector<uint32_t>(m.sites.begin(), m.sites.end() - 1)}].self -= inside(m, scope);
    }
    std::erase_if(table, [](const auto& row) { return !row.second.count; });
    return table;
}

/// The first marker of each row of that table.
std::map<SlowTable::key_type, const ToldMarker*> firstOfEach(const Made& made, const Scope& scope) {
    std::map<SlowTable::key_type, const ToldMarker*> firsts;
    for (const ToldMarker& m : made.markers) {
        if (!overlaps(m, scope)) continue;
        const ToldMarker*& first = firsts[{m.lane, m.sites}];
        if (!first || m.index < first->index) first = &m;
    }
    return firsts;
}

std::vector<uint32_t> sitesOf(const Recording& r, PathId path) {
    std::vector<uint32_t> sites;
    for (; path; path = r.paths[path].parent) sites.insert(sites.begin(), r.paths[path].site);
    return sites;
}

/// Random recordings of several shapes; the columns take every width and several chunks.
std::vector<Made> someRecordings() {
    std::vector<Made> made;
    Making small;
    small.frameEvery = 40;
    small.roles = true;
    made.push_back(small.make());
    Making flat;  // many chunks in one row, many of no length
    flat.lanes = 1;
    flat.depth = 1;
    flat.step = 1;
    flat.events = 30'000;
    flat.frameEvery = 100;
    made.push_back(flat.make());
    Making gaps;  // numbers of eight bytes
    gaps.gapEvery = 300;
    gaps.events = 12'000;
    gaps.seed = 5;
    gaps.frameEvery = 60;
    made.push_back(gaps.make());
    Making many;  // many paths
    many.sites = 300;
    many.depth = 3;
    many.events = 20'000;
    many.step = 70'000;
    many.seed = 9;
    made.push_back(many.make());
    Making recursive;
    recursive.sites = 2;
    recursive.depth = 14;
    recursive.seed = 11;
    recursive.frameEvery = 80;
    made.push_back(recursive.make());
    return made;
}

TimeRange randomRange(const Recording& r, std::mt19937& random) {
    const auto length = static_cast<uint64_t>(r.end - r.begin + 1);
    const uint64_t a = (uint64_t{random()} << 32 | random()) % length,
                   b = (uint64_t{random()} << 32 | random()) % length;
    return {r.begin + static_cast<int64_t>(std::min(a, b)), r.begin + static_cast<int64_t>(std::max(a, b)) + 1};
}

/// What one lane's marker path adds to a grouping, said in names.
void addToGrouping(std::map<std::vector<std::string>, SlowRow>& to, const Recording& r, MarkersBy by, uint32_t site,
                   uint32_t lane, const std::vector<uint32_t>& sites, const SlowRow& sum) {
    const auto name = [&](uint32_t one) { return r.sites[one].name; };
    const auto add = [&](const std::vector<std::string>& way, bool whole, bool group = false) {
        SlowRow& row = to[way];
        if (whole) row.total += sum.total;
        if (group) return;
        row.count += sum.count;
        row.self += sum.self;
        row.longest = std::max(row.longest, sum.longest);
    };
    const uint32_t last = sites.back();
    const bool outermost = std::count(sites.begin(), sites.end(), last) == 1;
    std::vector<std::string> way;
    switch (by) {
        case MarkersBy::Lane:
        case MarkersBy::Role:
            if (by == MarkersBy::Lane || r.groups[r.lanes[lane].group].lanes.size() == 1)
                way = {r.lanes[lane].name};
            else
                way = {"crew, 2 lanes"};
            for (const uint32_t one : sites) way.push_back(name(one));
            return add(way, true);
        case MarkersBy::Leaves:
            for (auto one = sites.rbegin(); one != sites.rend(); ++one) {
                way.push_back(name(*one));
                add(way, outermost);
            }
            return;
        case MarkersBy::Marker: return add({name(last)}, outermost);
        case MarkersBy::Category: {
            const auto of = [&](uint32_t one) { return r.sites[one].category; };
            const auto same = [&](uint32_t one) { return of(one) == of(last); };
            const std::string category = of(last).empty() ? "without a category" : of(last);
            add({category}, std::count_if(sites.begin(), sites.end(), same) == 1, true);
            return add({category, name(last)}, outermost);
        }
        case MarkersBy::Around: break;
    }
    const auto outer = std::find(sites.begin(), sites.end(), site);
    if (outer == sites.end()) return;
    if (last == site) add({name(site)}, outermost);
    if (outer + 1 == sites.end()) {
        add({"Called from"}, true, true);
        if (outer == sites.begin()) add({"Called from", "no other marker"}, true, true);
        way = {"Called from"};
        for (auto one = std::make_reverse_iterator(outer); one != sites.rend(); ++one) {
            way.push_back(name(*one));
            add(way, true);
        }
        return;
    }
    way = {"Calls"};
    for (auto one = outer + 1; one != sites.end(); ++one) way.push_back(name(*one));
    add(way, true);
    if (way.size() == 2) add({"Calls"}, true, true);
}

/// Of several stretches, some of which touch or hold each other; every second one of some lanes only.
Scope randomScope(const Recording& r, std::mt19937& random) {
    std::vector<TimeRange> ranges;
    const int64_t longest = (r.end - r.begin) / 20 + 1;
    for (size_t i = random() % 12 + 1; i; --i) {
        TimeRange range = randomRange(r, random);
        range.end = std::min(range.end, range.begin + 1 + static_cast<int64_t>(random()) % longest);
        ranges.push_back(range);
        if (random() % 3 == 0) ranges.push_back({range.end, range.end + longest / 7});
    }
    Scope scope(std::move(ranges));
    if (random() % 2)
        for (size_t lane = 0; lane < r.lanes.size(); ++lane) scope.lanes.push_back(random() % 2);
    return scope;
}
/// The whole, a range, or several.
Scope someScope(const Recording& r, int which, std::mt19937& random) {
    return which == 0 ? Scope(wholeOf(r)) : which % 2 ? Scope(randomRange(r, random)) : randomScope(r, random);
}

}  // namespace

class ScaleTest : public QObject {
    Q_OBJECT
    std::vector<Made> some_;

private slots:
    void initTestCase() { some_ = someRecordings(); }

    // ---- columns ----------------------------------------------------------------------------------

    void columnsSayWhatWasTold() {
        for (const Made& made : some_) {
            const Recording& r = *made.recording;
            QCOMPARE(r.markerCount(), made.markers.size());
            for (const ToldMarker& m : made.markers) {
                const MarkerRow& row = r.lanes[m.lane].rows[m.row];
                QCOMPARE(row.begin(m.index), m.begin);
                QCOMPARE(row.end(m.index), m.end);
                QCOMPARE(row.duration(m.index), m.end - m.begin);
                QCOMPARE(row.parent(m.index), m.parent);
                QCOMPARE(bool(row.flags(m.index) & kMarkerWait), m.wait);
                QCOMPARE(bool(row.flags(m.index) & kMarkerInsideWait), m.insideWait);
                QVERIFY(sitesOf(r, row.path(m.index)) == m.sites);
            }
        }
    }

    void rowsAnswerAsAPlainCountDoes() {
        std::mt19937 random(3);
        for (const Made& made : some_) {
            for (const Lane& lane : made.recording->lanes)
                for (uint32_t depth = 0; depth < lane.rows.size(); ++depth) {
                    const MarkerRow& row = lane.rows[depth];
                    std::vector<int64_t> begins, ends;
                    std::vector<uint32_t> parents;
                    for (uint32_t i = 0; i < row.size(); ++i) {
                        begins.push_back(row.begin(i));
                        ends.push_back(row.end(i));
                        parents.push_back(row.parent(i));
                    }
                    for (int k = 0; k < 60; ++k) {
                        const uint32_t some = random() % row.size();
                        const int64_t time =
                            k % 3 ? begins[some] + int(random() % 3) - 1 : randomRange(*made.recording, random).begin;
                        const auto from =
                            uint32_t(std::lower_bound(begins.begin(), begins.end(), time) - begins.begin());
                        QCOMPARE(row.firstFrom(time), from);
                        QCOMPARE(row.lastBefore(time), from ? from - 1 : kNone);
                        QCOMPARE(row.lastBefore(time, some), from ? from - 1 : kNone);
                        for (const int64_t length : {int64_t{0}, int64_t(random() % 100'000)})
                            QCOMPARE(row.overlapping(time, time + length, some), row.overlapping(time, time + length));
                        QCOMPARE(row.firstEndingAfter(time),
                                 uint32_t(std::upper_bound(ends.begin(), ends.end(), time) - ends.begin()));
                        // Markers shown as one, exactly and from the groups.
                        const uint32_t exact = std::max(from, some + 1);
                        const auto workOf = [&](uint32_t i) {
                            return row.flags(i) & kMarkerWait ? int64_t{0} : ends[i] - begins[i];
                        };
                        int64_t work = 0, atEdges = 0;
                        for (uint32_t i = some; i < exact; ++i) work += workOf(i);
                        const auto together = row.together(some, time, UINT32_MAX);
                        QCOMPARE(together.past, exact);
                        QCOMPARE(together.work, work);
                        QVERIFY(!together.rough);
                        const auto rough = row.together(some, time, 128);
                        QVERIFY(rough.past > some && rough.past <= row.size());
                        QVERIFY(std::max(rough.past, exact) - std::min(rough.past, exact) <= MarkerRow::kGroup);
                        QVERIFY(rough.rough || (rough.past == exact && rough.work == work));
                        QVERIFY(!rough.rough || exact - some >= 128);
                        const auto groupOf = [&](uint32_t i) {
                            return std::min(i, row.size() - 1) / MarkerRow::kGroup;
                        };
                        for (uint32_t i = 0; i < row.size(); ++i)
                            if (groupOf(i) == groupOf(some) || groupOf(i) == groupOf(rough.past) ||
                                groupOf(i) == groupOf(exact))
                                atEdges += workOf(i);
                        QVERIFY(std::abs(rough.work - work) <= atEdges);
                        const uint32_t other = random() % (row.size() + 1);
                        const auto [low, high] = std::minmax(some, other);
                        int64_t busy = 0, waited = 0, before = 0;
                        for (uint32_t i = 0; i < high; ++i) {
                            const int64_t duration = ends[i] - begins[i];
                            before += duration;
                            if (row.flags(i) & kMarkerWait) waited += duration;
                            if (i >= low) busy += duration;
                        }
                        QCOMPARE(row.busyBetween(low, high), busy);
                        QCOMPARE(row.busyBefore(high), before);
                        QCOMPARE(row.waitBefore(high), waited);
                        const auto [first, past] = row.childrenOf(parents[some]);
                        QCOMPARE(first, uint32_t(std::lower_bound(parents.begin(), parents.end(), parents[some]) -
                                                 parents.begin()));
                        QCOMPARE(past, uint32_t(std::upper_bound(parents.begin(), parents.end(), parents[some]) -
                                                parents.begin()));
                    }
                }
        }
    }

    void aReaderSaysWhatTheRowSays() {
        std::mt19937 random(8);
        for (const Made& made : some_)
            for (const Lane& lane : made.recording->lanes)
                for (const MarkerRow& row : lane.rows) {
                    MarkerRow::Reader reader(&row);
                    for (int k = 0; k < 40; ++k) {
                        const uint32_t i = random() % row.size();
                        reader.expect(i);
                        reader.expectGroup(i & ~(MarkerRow::kGroup - 1));
                        QCOMPARE(reader.begin(i), row.begin(i));
                        QCOMPARE(reader.duration(i), row.duration(i));
                        QCOMPARE(reader.path(i), row.path(i));
                        QCOMPARE(reader.parent(i), row.parent(i));
                        QCOMPARE(reader.flags(i), row.flags(i));
                        // Groups: from anywhere, to just before a marker begins.
                        const int64_t time = row.begin(i) + int(random() % 3) - 1;
                        const uint32_t last = row.lastBefore(time),
                                       group = row.groupBefore(time, random() % row.size());
                        QCOMPARE(group, last == kNone ? kNone : last & ~(MarkerRow::kGroup - 1));
                        if (group != kNone) QCOMPARE(reader.lastBefore(time, group), last);
                        // Backwards over a few, or to the first.
                        const uint32_t few = random() % 200;
                        uint32_t expected = i;
                        const uint32_t stopped =
                            reader.backwards(i, [&](uint32_t at, int64_t begin, int64_t duration, PathId path) {
                                if (at != expected || begin != row.begin(at) || duration != row.duration(at) ||
                                    path != row.path(at))
                                    return false;
                                --expected;
                                return i - at < few;
                            });
                        QCOMPARE(stopped, i < few ? kNone : i - few);
                    }
                }
    }

    void whatOverlapsARangeIsFound() {
        std::mt19937 random(6);
        for (const Made& made : some_)
            for (const Lane& lane : made.recording->lanes)
                for (const MarkerRow& row : lane.rows)
                    for (int k = 0; k < 25; ++k) {
                        // From edges of markers, or a nanosecond beside them; also of no length at all.
                        const auto edge = [&] {
                            const uint32_t i = random() % row.size();
                            return (random() % 2 ? row.begin(i) : row.end(i)) + int(random() % 3) - 1;
                        };
                        auto [begin, end] = std::minmax({edge(), edge()});
                        const auto [from, past] = row.overlapping(begin, end);
                        QVERIFY(from <= past && past <= row.size());
                        for (uint32_t i = 0; i < row.size(); ++i) {
                            const bool within = row.begin(i) < end && (row.end(i) > begin || row.begin(i) >= begin),
                                       open = row.begin(i) < begin && row.end(i) > begin;
                            QCOMPARE(i >= from && i < past, within || open);
                        }
                    }
    }

    void summariesAddUpToTheirMarkers() {
        for (const Made& made : some_)
            for (const Lane& lane : made.recording->lanes)
                for (const MarkerRow& row : lane.rows)
                    for (size_t chunk = 0; chunk < row.chunks().size(); ++chunk) {
                        std::map<uint32_t, SlowRow> slow;
                        const auto at = uint32_t(chunk * MarkerRow::kChunk);
                        row.forEach(at, std::min(row.size(), at + MarkerRow::kChunk),
                                    [&](uint32_t i, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                                        ++slow[path].count;
                                        slow[path].total += duration;
                                        slow[path].longest = std::max(slow[path].longest, duration);
                                        const auto& group = row.groups()[i / MarkerRow::kGroup];
                                        if (i % MarkerRow::kGroup == 0) QCOMPARE(group.begin, begin);
                                        QVERIFY(group.longest >= std::min<int64_t>(duration, UINT32_MAX));
                                    });
                        const auto [first, past] = row.sumsOf(chunk);
                        QCOMPARE(size_t(past - first), slow.size());
                        for (const PathSum* sum = first; sum != past; ++sum) {
                            QCOMPARE(uint64_t(sum->count), slow[sum->path].count);
                            QCOMPARE(sum->total, slow[sum->path].total);
                            QCOMPARE(sum->longest, slow[sum->path].longest);
                        }
                    }
    }

    // ---- asking -----------------------------------------------------------------------------------

    void aScopeIsItsRangesWhereverTheyLie() {
        std::mt19937 random(23);
        for (int k = 0; k < 200; ++k) {
            std::vector<TimeRange> ranges;
            for (size_t i = random() % 6; i; --i) {
                const int64_t begin = random() % 60;
                ranges.push_back({begin, begin + int64_t(random() % 12) - 1});
            }
            const Scope scope(ranges);
            int64_t length = 0;
            for (int64_t time = -2; time < 90; ++time) {
                const bool within = std::any_of(ranges.begin(), ranges.end(),
                                                [&](auto& range) { return range.begin <= time && time < range.end; });
                QCOMPARE(scope.contains(time), within);
                length += within;
            }
            QCOMPARE(scope.length(), length);
            for (size_t i = 1; i < scope.stretches.size(); ++i)
                QVERIFY(scope.stretches[i - 1].end < scope.stretches[i].begin);
        }
    }

    void tablesOfScopesAreThoseOfASlowCount() {
        std::mt19937 random(7);
        for (const Made& made : some_)
            for (int k = 0; k < 20; ++k) {
                const Recording& r = *made.recording;
                const Scope scope = someScope(r, k, random);
                const SlowTable slow = slowTable(made, scope);
                const auto firsts = firstOfEach(made, scope);
                const auto table = nestedMarkers(r, scope);
                SlowTable quick;
                int64_t lanes = 0, slowLanes = 0;
                for (const NestedMarker& row : table->rows) {
                    if (row.path) {
                        const auto sites = sitesOf(r, row.path);
                        quick[{row.lane, sites}] = {row.count, row.total, row.self, row.longest};
                        const auto found = firsts.find({row.lane, sites});
                        QVERIFY(found != firsts.end());
                        const ToldMarker& first = *found->second;
                        QVERIFY(row.first.lane == first.lane && row.first.row == first.row &&
                                row.first.index == first.index && row.wait == first.wait);
                    } else {
                        lanes += row.total;
                    }
                    for (const uint32_t child : row.children)
                        QCOMPARE(r.paths[table->rows[child].path].parent, row.path);
                }
                for (const ToldMarker& m : made.markers) {
                    if (!overlaps(m, scope)) continue;
                    if (m.sites.size() == 1) slowLanes += inside(m, scope);
                    if (m.wait && !m.insideWait) slowLanes -= inside(m, scope);
                }
                QCOMPARE(lanes, slowLanes);
                QVERIFY(quick == slow);
            }
    }

    void groupingsAreThoseOfASlowCount() {
        std::mt19937 random(29);
        for (const Made& made : some_)
            for (int k = 0; k < 18; ++k) {
                const Recording& r = *made.recording;
                const Scope scope = someScope(r, k % 3, random);
                const auto by = static_cast<MarkersBy>(k % 6);
                const uint32_t site = random() % uint32_t(std::min<size_t>(r.sites.size(), 8));
                const auto quick = groupedMarkers(r, nestedMarkers(r, scope), by, site);
                std::map<std::vector<std::string>, SlowRow> rows;
                std::set<uint64_t> keys;
                const auto collect = [&](auto&& self, uint32_t at, std::vector<std::string> way) -> void {
                    const GroupedMarker& row = quick->rows[at];
                    way.push_back(row.name);
                    if (!row.group) {
                        QVERIFY(rows.emplace(way, SlowRow{row.count, row.total, row.self, row.longest}).second);
                        QCOMPARE(row.name, r.sites[row.site].name);
                    } else if (by != MarkersBy::Lane && by != MarkersBy::Role) {
                        rows[way].total = row.total;  // of lanes: their busy time
                    }
                    QVERIFY(keys.insert(row.key).second);
                    for (const uint32_t child : row.children) self(self, child, way);
                };
                for (const uint32_t top : quick->top) collect(collect, top, {});
                std::map<std::vector<std::string>, SlowRow> slow;
                for (const auto& [at, sum] : slowTable(made, scope))
                    addToGrouping(slow, r, by, site, at.first, at.second, sum);
                QVERIFY2(rows == slow, qPrintable(QString("grouping %1").arg(int(by))));
            }
    }

    void figuresOfAMarkerAreThoseOfASlowCount() {
        std::mt19937 random(17);
        for (const Made& made : some_)
            for (int k = 0; k < 14; ++k) {
                const Recording& r = *made.recording;
                const Scope scope = someScope(r, k, random);
                const uint32_t site = random() % uint32_t(std::min<size_t>(r.sites.size(), 8));
                const auto quick = statisticsOf(r, site, scope, 0);
                std::vector<int64_t> durations;
                int64_t total = 0, self = 0;
                std::map<uint32_t, int64_t> inFrame;
                uint64_t calls = 0;
                for (const ToldMarker& m : made.markers) {
                    if (!overlaps(m, scope)) continue;
                    const bool below = m.sites.size() > 1 && m.sites[m.sites.size() - 2] == site;
                    if (below) self -= inside(m, scope);
                    if (m.sites.back() != site) continue;
                    durations.push_back(m.end - m.begin);
                    self += inside(m, scope);
                    const bool outermost = std::count(m.sites.begin(), m.sites.end(), site) == 1;
                    if (outermost) total += inside(m, scope);
                    if (r.series.empty() || r.series[0].frames.empty()) continue;
                    const uint32_t frame = r.series[0].frameAt(m.begin);
                    if (frame == kNone || !scope.contains(r.series[0].frames[frame].begin) ||
                        r.series[0].frames[frame].end <= m.begin)
                        continue;
                    inFrame[frame] += outermost ? m.end - m.begin : 0;
                    ++calls;
                }
                QCOMPARE(quick->count, uint64_t(durations.size()));
                QCOMPARE(quick->total, total);
                QCOMPARE(quick->self, self);
                if (durations.empty()) continue;
                std::sort(durations.begin(), durations.end());
                const auto rank = [&](double p) {
                    return durations[std::clamp<size_t>(size_t(std::ceil(p * double(durations.size()))), 1,
                                                        durations.size()) -
                                     1];
                };
                QCOMPARE(quick->shortest, durations.front());
                QCOMPARE(quick->median, rank(0.5));
                QCOMPARE(quick->p95, rank(0.95));
                QCOMPARE(quick->p99, rank(0.99));
                QCOMPARE(quick->longest, durations.back());
                partsAreThoseOfASlowCount(made, scope, site, *quick);
                QCOMPARE(quick->framesWithIt, uint64_t(inFrame.size()));
                QVERIFY(std::abs(quick->callsPerFrame * double(quick->frames) - double(calls)) < 0.01);
                int64_t worst = -1;
                for (const auto& [frame, ns] : inFrame) worst = std::max(worst, ns);
                if (worst >= 0) {
                    QCOMPARE(quick->worstFrameNs, worst);
                    QCOMPARE(inFrame[quick->worstFrame], worst);
                }
            }
    }

    /// By length, frame, caller, lane and argument.
    void partsAreThoseOfASlowCount(const Made& made, const Scope& scope, uint32_t site, const MarkerStatistics& s) {
        const Recording& r = *made.recording;
        std::map<std::string, MarkerPart> callers, lanes, stages;
        std::map<std::string, std::map<std::string, MarkerPart>> arguments;
        uint64_t counted = 0;
        size_t bar = 0;
        std::vector<int64_t> lengths;
        const auto add = [](MarkerPart& part, const std::string& name, const ToldMarker& m) {
            part.name = name;
            ++part.count;
            part.total += m.end - m.begin;
            part.longest = std::max(part.longest, m.end - m.begin);
        };
        for (const ToldMarker& m : made.markers) {
            if (!overlaps(m, scope) || m.sites.back() != site) continue;
            std::string caller;
            for (size_t i = m.sites.size() - 1, depth = 0; i-- > 0 && depth < 3; ++depth)
                caller = r.sites[m.sites[i]].name + (caller.empty() ? "" : " ▸ " + caller);
            add(callers[caller], caller.empty() ? "no other marker" : caller, m);
            add(lanes[r.lanes[m.lane].name], r.lanes[m.lane].name, m);
            if (const StateSpan* stage = r.stageAt(m.begin); stage && m.begin < stage->end)
                add(stages[std::string(r.text(stage->value))], std::string(r.text(stage->value)), m);
            const auto [from, to] = r.lanes[m.lane].argumentsOf(m.row, m.index);
            for (const Argument* a = from; a != to; ++a)
                add(arguments[r.keys[a->key]][r.valueText(*a)], r.valueText(*a), m);
            lengths.push_back(m.end - m.begin);
        }
        const auto same = [](const std::vector<MarkerPart>& quick, const std::map<std::string, MarkerPart>& slow) {
            if (quick.size() != slow.size()) return false;
            for (size_t i = 1; i < quick.size(); ++i)
                if (quick[i - 1].total < quick[i].total) return false;
            return std::all_of(slow.begin(), slow.end(), [&](const auto& one) {
                return std::find(quick.begin(), quick.end(), one.second) != quick.end();
            });
        };
        QVERIFY(same(s.byCaller, callers));
        QVERIFY(same(s.byLane, lanes));
        QVERIFY(same(s.byStage, stages));
        QCOMPARE(s.byArgument.size(), arguments.size());
        for (const MarkerArgument& argument : s.byArgument) {
            uint64_t all = 0;
            for (const auto& [value, part] : arguments[argument.key]) all += part.count;
            uint64_t told = argument.others;
            for (const MarkerPart& part : argument.values) {
                told += part.count;
                QCOMPARE(part, arguments[argument.key][part.name]);
            }
            QCOMPARE(told, all);
            QCOMPARE(argument.values.size(), std::min(kMostArgumentValues, arguments[argument.key].size()));
        }
        std::sort(lengths.begin(), lengths.end());
        for (const int64_t length : lengths) {  // each lies in the bar of its length
            while (bar < s.durations.size() && s.durations[bar].to <= length) counted += s.durations[bar++].count;
            QVERIFY(bar < s.durations.size() && s.durations[bar].from <= length);
        }
        for (; bar < s.durations.size(); ++bar) counted += s.durations[bar].count;
        QCOMPARE(counted, uint64_t(lengths.size()));
        uint64_t frames = 0;
        for (size_t i = 0; i < s.inFrame.size(); ++i) {
            const bool inScope = scope.contains(r.series[0].frames[s.firstFrame + i].begin);
            QCOMPARE(s.inFrame[i] >= 0, inScope);
            frames += inScope;
        }
        QCOMPARE(frames, s.frames);
    }

    void longestOccurrencesAreThoseOfAFullSort() {
        std::mt19937 random(19);
        for (const Made& made : some_)
            for (const size_t most : {size_t{0}, size_t{1}, size_t{50}, size_t{100'000}}) {
                const Recording& r = *made.recording;
                const Scope scope = someScope(r, most == 50 ? 1 : most == 1 ? 2 : 0, random);
                const uint32_t site = random() % 2;
                std::vector<const ToldMarker*> slow;
                for (const ToldMarker& m : made.markers) {
                    if (overlaps(m, scope) && m.sites.back() == site) slow.push_back(&m);
                }
                std::stable_sort(slow.begin(), slow.end(), [](auto* x, auto* y) {
                    return std::tuple(y->end - y->begin, x->lane, x->begin, x->row, x->index) <
                           std::tuple(x->end - x->begin, y->lane, y->begin, y->row, y->index);
                });
                slow.resize(std::min(slow.size(), most));
                const auto quick = longestOccurrences(r, site, scope, most);
                QCOMPARE(quick->size(), slow.size());
                for (size_t i = 0; i < slow.size(); ++i) {
                    QCOMPARE((*quick)[i].duration, slow[i]->end - slow[i]->begin);
                    QVERIFY(((*quick)[i].marker == MarkerRef{slow[i]->lane, slow[i]->row, slow[i]->index}));
                }
            }
    }

    void searchFindsNamesArgumentsAndPoints() {
        const Recording& r = *some_[0].recording;
        const auto skerries = search(r, "sKeRRy");
        size_t slow = 0;
        for (const Lane& lane : r.lanes)
            for (const Column<Argument>& ofRow : lane.arguments)
                for (const Argument& argument : ofRow) slow += r.text(argument.value) == "Outer Skerry";
        QVERIFY(slow > 10);
        QCOMPARE(skerries->allArguments, uint64_t(slow));
        QCOMPARE(skerries->arguments.size(), slow);
        QVERIFY(skerries->markers.empty());
        QCOMPARE(search(r, "boat=skerry")->allArguments, uint64_t(slow));
        QCOMPARE(search(r, "gull=skerry")->allArguments, uint64_t{0});
        const auto sites = search(r, "SITE 3");
        QCOMPARE(sites->markers.size(), size_t{1});
        uint64_t count = 0;
        for (const ToldMarker& m : some_[0].markers) count += m.sites.back() == sites->markers[0].site;
        QCOMPARE(sites->markers[0].count, count);
        QVERIFY(search(r, "")->markers.empty());
        QVERIFY(search(r, "no such thing")->markers.empty());
        const auto r2 =
            TextRecording().at(5, "main", R"("do":"point","text":"Sail torn")").mark(1, 2, "main", "A").open();
        QCOMPARE(search(*r2, "torn")->points.size(), size_t{1});
    }

    void everyQuestionCanBeCancelled() {
        const Recording& r = *some_[1].recording;
        const Progress no = [](double) { return false; };
        QVERIFY(!nestedMarkers(r, wholeOf(r), no));
        QVERIFY(!statisticsOf(r, 0, wholeOf(r), 0, no));
        QVERIFY(!longestOccurrences(r, 0, wholeOf(r), 10, no));
        QVERIFY(!search(*some_[0].recording, "skerry", no));
    }

    // ---- storage ----------------------------------------------------------------------------------

    void aRecordingInAFileSaysTheSameAlsoAfterItWasLetGoOf() {
        const QTemporaryDir folder;
        Making making;
        making.events = 40'000;
        const Made inMemory = making.make();
        auto storage = Storage::inFolder(folder.path().toStdString());
        QVERIFY(storage.ok());
        making.storage = *storage;
        const Made inFile = making.make();
        QVERIFY(inFile.recording->storage->inFile() && !inFile.recording->storage->spilled());
        const QByteArray said = saidBy(*inMemory.recording);
        QVERIFY(saidBy(*inFile.recording) == said);
        const uint64_t before = Storage::residentBytes();
        (*storage)->letGo(1);
        QVERIFY(Storage::residentBytes() < before);
        QVERIFY(saidBy(*inFile.recording) == said);
        (*storage)->keepWithin(1);  // and while it is evicted all the time
        for (int i = 0; i < 5; ++i) QVERIFY(saidBy(*inFile.recording) == said);
    }

    void theLimitHoldsWhileAStorageIsFilledAndReadAtFullSpeed() {
        if (kThreadSanitizer) QSKIP("what the thread sanitizer keeps of each byte counts too");
        const QTemporaryDir folder;
        auto made = Storage::inFolder(folder.path().toStdString());
        QVERIFY(made.ok());
        Storage& storage = **made;
        constexpr uint64_t kAll = 320u << 20, kPart = 1u << 20, kLimit = 64u << 20;
        // What came into use since the last look may be there beside the limit. That is looked at every 128 regions of
        // 256 kB, and acted on from twice as many on: less than three times 128 regions.
        constexpr uint64_t kSlack = 112u << 20;
        const uint64_t before = Storage::residentBytes();
        storage.keepWithin(before + kLimit);
        std::vector<uint64_t> parts;
        uint64_t most = 0;
        for (uint64_t filled = 0; filled < kAll; filled += kPart) {
            parts.push_back(storage.allocate(kPart));
            std::memset(storage.at(parts.back()), static_cast<int>(parts.size()), kPart);
            most = std::max(most, Storage::residentBytes());
        }
        for (size_t i = 0; i < parts.size(); ++i) {
            const char* at = std::as_const(storage).at(parts[i]);
            for (uint64_t k = 0; k < kPart; k += 4096) {
                if (k % (256 << 10) == 0) at = std::as_const(storage).at(parts[i] + k) - k;
                QCOMPARE(at[k], static_cast<char>(i + 1));
            }
            most = std::max(most, Storage::residentBytes());
        }
        QVERIFY2(most <= before + kLimit + kSlack, qPrintable(QString::number((most - before) >> 20) + " MB"));
    }

    void theFirstFrameFromAnInstantIsFoundFromAnyPlace() {
        std::mt19937 random(31);
        for (int round = 0; round < 20; ++round) {
            auto storage = Storage::inMemory();
            std::vector<Frame> frames;
            int64_t at = 0;
            for (uint32_t i = random() % 300; i > 0; --i) {
                at += random() % 3 ? static_cast<int64_t>(random() % 1000) : 0;  // some begin at the same instant
                frames.push_back({at, at + 10, 0, 0});
            }
            Series series;
            series.frames = Column<Frame>::of(*storage, frames);
            for (int k = 0; k < 50; ++k) {
                const auto near = static_cast<uint32_t>(random() % (frames.size() + 1));
                const auto time = static_cast<int64_t>(random() % static_cast<uint64_t>(at + 20)) - 10;
                uint32_t expected = near;
                while (expected < frames.size() && frames[expected].begin < time) ++expected;
                QCOMPARE(series.firstFrom(time, near), expected);
            }
        }
    }

    void aFullDiskLeavesTheRestInMemory() {
        if (::geteuid() != 0) QSKIP("only root can make a small disk");
        const QTemporaryDir folder;
        if (::mount("tmpfs", folder.path().toUtf8().constData(), "tmpfs", 0, "size=2m") != 0)
            QSKIP("no small disk can be made here");
        Making making;
        making.events = 200'000;
        making.lanes = 2;
        auto storage = Storage::inFolder(folder.path().toStdString());
        const bool made = storage.ok();
        QByteArray said;
        bool spilled = false;
        if (made) {
            making.storage = *storage;
            said = saidBy(*making.make().recording);
            spilled = (*storage)->spilled();
            making.storage.reset();
            storage = Failure{};
        }
        ::umount2(folder.path().toUtf8().constData(), MNT_DETACH);
        QVERIFY(made && spilled);
        making.storage = Storage::inMemory();
        QVERIFY(said == saidBy(*making.make().recording));
    }

    void textsAreKeptOnce() {
        const auto storage = Storage::inMemory();
        TextWriter writer(*storage);
        const TextRef a = writer.add("regatta"), b = writer.add("buoy");
        QVERIFY(a && b && a != b);
        QCOMPARE(writer.add("regatta"), a);
        QCOMPARE(writer.add(""), TextRef{0});
        QCOMPARE(std::as_const(*storage).text(a), std::string_view("regatta"));
        QCOMPARE(std::as_const(*storage).text(0), std::string_view());
        const std::string huge(3'000'000, 'x');
        QCOMPARE(std::as_const(*storage).text(writer.add(huge)).size(), huge.size());
        QCOMPARE(std::as_const(*storage).text(b), std::string_view("buoy"));
    }
};

QTEST_GUILESS_MAIN(ScaleTest)
#include "scale_test.moc"
