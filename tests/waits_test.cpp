// SPDX-License-Identifier: GPL-3.0-or-later
//
// Waits added up: what was waited for, who held it meanwhile; operations and file requests. Against plain sums over
// random recordings.
#include <QtTest>

#include "core/ask/answer_tables.h"
#include "core/table/writing.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

struct Slow {
    uint64_t count = 0;
    int64_t total = 0, longest = 0;
    bool operator==(const Slow&) const = default;
};
using Rows = std::map<std::vector<std::string>, Slow>;

bool overlaps(int64_t begin, int64_t end, const TimeRange& s) {
    return begin < s.end && (end > s.begin || begin >= s.begin);
}

/// What the table must say, wait by wait.
Rows slowWaits(const Recording& r, const Scope& scope, WaitsBy by) {
    Rows rows;
    const auto in = [&](PathId path) { return path ? ", in " + r.pathText(path) : std::string(); };
    for (uint32_t l = 0; l < r.lanes.size(); ++l) {
        if (!scope.has(l)) continue;
        for (const Wait& wait : r.lanes[l].waits) {
            int64_t inside = 0;
            bool any = false;
            for (const TimeRange& s : scope.stretches) {
                if (!overlaps(wait.begin, wait.end, s)) continue;
                any = true;
                inside += std::min(wait.end, s.end) - std::max(wait.begin, s.begin);
            }
            if (!any) continue;
            const PathId caller = r.paths[r.pathOf({l, wait.row, wait.index})].parent;
            const std::string object = wait.object == kNone || r.objects[wait.object].empty() ? waitKindText(wait.kind)
                                                                                              : r.objects[wait.object];
            const auto add = [&](const std::vector<std::string>& way) {
                Slow& row = rows[way];
                ++row.count;
                row.total += inside;
                row.longest = std::max(row.longest, wait.end - wait.begin);
            };
            if (by != WaitsBy::Object) {
                const std::string top = by == WaitsBy::Lane ? r.lanes[l].name
                                        : caller            ? r.pathText(caller)
                                                            : "in no other marker";
                add({top});
                add({top, object});
                continue;
            }
            add({object});
            add({object, r.lanes[l].name + in(caller)});
            if (wait.object == kNone) continue;
            std::map<std::vector<std::string>, Slow> holders;
            for (const Hold& hold : r.holds[wait.object]) {
                int64_t met = 0;
                for (const TimeRange& s : scope.stretches)
                    met += std::max<int64_t>(
                        0, std::min({hold.end, wait.end, s.end}) - std::max({hold.begin, wait.begin, s.begin}));
                if (met <= 0) continue;
                Slow& row = holders[{object, "held by " + r.lanes[hold.lane].name + in(hold.path)}];
                row.count = 1;
                row.total += met;
                row.longest = std::max(row.longest, hold.end - hold.begin);
            }
            for (const auto& [way, met] : holders) {
                rows[way].count += met.count;
                rows[way].total += met.total;
                rows[way].longest = std::max(rows[way].longest, met.longest);
            }
        }
    }
    return rows;
}

Rows rowsOf(const Waits& waits) {
    Rows rows;
    const auto collect = [&](auto&& self, uint32_t at, std::vector<std::string> way) -> void {
        const WaitSum& row = waits.rows[at];
        if (row.of == WaitRow::Queues) return;  // they have a test of their own
        way.push_back(row.name);
        // Paths that are called the same stand in rows of their own.
        rows[way].count += row.count;
        rows[way].total += row.total;
        rows[way].longest = std::max(rows[way].longest, row.longest);
        for (const uint32_t child : row.children) self(self, child, way);
    };
    for (const uint32_t top : waits.top) collect(collect, top, {});
    return rows;
}

/// Two lanes want the lock that a third holds, one of them twice.
TextRecording queueing() {
    TextRecording t;
    t.begin(0, "saver", "Save").begin(100, "saver", "Flush").taken(200, "saver", "scene");
    t.begin(0, "main", "Frame").wait(500, "main", "Wait for lock", "scene", "lock");
    t.wait(700, "helper", "Wait for lock", "scene", "lock");
    t.given(1500, "saver", "scene").end(1600, "saver").end(1700, "saver");
    t.waitEnd(1500, "main").taken(1500, "main", "scene");
    t.given(2500, "main", "scene").end(3000, "main");
    t.waitEnd(2500, "helper");
    t.wait(5000, "main", "Read", "", "file").waitEnd(5300, "main");
    return t;
}

}  // namespace

class WaitsTest : public QObject {
    Q_OBJECT

    static const WaitSum* find(const Waits& waits, const std::string& name) {
        for (const WaitSum& row : waits.rows)
            if (row.name == name) return &row;
        return nullptr;
    }

    /// 300 operations on three lanes, some of which never end, and as many reads of a file.
    static TextRecording manyOperations(std::mt19937& random) {
        struct Told {
            double at;
            std::string lane, what;
        };
        std::vector<Told> told;
        for (int i = 1; i <= 300; ++i) {
            const double begin = random() % 90'000, length = random() % 9000;
            const auto lane = [&] { return "lane " + std::to_string(random() % 3); };
            const std::string id = R"(,"operation":)" + std::to_string(i);
            told.push_back({begin, lane(), R"("do":"operation","site":"Load")" + id});
            for (uint32_t step = random() % 3; step; --step)
                told.push_back({begin + length / (step + 1), lane(), R"("do":"step","site":"Unpack")" + id});
            if (random() % 20)
                told.push_back({begin + length, lane(),
                                R"("do":"operation_end")" + id + (random() % 9 ? "" : R"(,"code":5,"text":"no")")});
            const double wait = random() % 90'000;
            const std::string reader = "reader " + std::to_string(i % 2);
            told.push_back(
                {wait + i * 100'000.0, reader, R"("do":"wait","site":"Read","object":"a.pak","kind":"file")"});
            told.push_back({wait + i * 100'000.0 + random() % 500, reader, R"("do":"wait_end")"});
        }
        std::stable_sort(told.begin(), told.end(), [](const Told& a, const Told& b) { return a.at < b.at; });
        TextRecording t;
        for (const Told& one : told) t.at(one.at, one.lane, one.what);
        return t;
    }

private slots:
    void sumsAreThoseOfASlowCount() {
        std::mt19937 random(41);
        for (int round = 0; round < 12; ++round) {
            ModelBuilder builder;
            for (const ToldEvent& told : toldAtRandom(random, 1500)) builder.event(told.lane, told.event);
            const auto r = builder.finish();
            for (int k = 0; k < 9; ++k) {
                Scope scope = wholeOf(*r);
                if (k >= 3) {
                    std::vector<TimeRange> ranges;
                    for (int i = 0; i < 6; ++i) {
                        const int64_t begin = r->begin + int64_t(random() % uint64_t(r->end - r->begin));
                        ranges.push_back({begin, begin + int64_t(random() % 20'000)});
                    }
                    scope = Scope(std::move(ranges));
                }
                if (k % 2)
                    for (size_t lane = 0; lane < r->lanes.size(); ++lane) scope.lanes.push_back(random() % 2);
                const auto by = static_cast<WaitsBy>(k % 3);
                const auto quick = waitsIn(*r, scope, by);
                const Rows slow = slowWaits(*r, scope, by);
                const Rows told = rowsOf(*quick);
                QCOMPARE(told.size(), slow.size());
                for (const auto& [way, row] : slow) {
                    QVERIFY2(told.count(way), way.back().c_str());
                    QCOMPARE(told.at(way).total, row.total);
                    QCOMPARE(told.at(way).longest, row.longest);
                    // Holders of one name may be several rows, each of which met the wait.
                    if (way.back().rfind("held by ", 0) != 0) QCOMPARE(told.at(way).count, row.count);
                }
                uint64_t count = 0;
                std::set<uint64_t> keys;
                for (const uint32_t top : quick->top) count += quick->rows[top].count;
                for (const WaitSum& row : quick->rows) keys.insert(row.key);
                QCOMPARE(quick->count, count);
                QCOMPARE(keys.size(), quick->rows.size());
            }
        }
    }

    void whereSeveralWaitedAtOnceIsToldAsASlowLookFindsIt() {
        std::mt19937 random(47);
        for (int round = 0; round < 8; ++round) {
            ModelBuilder builder;
            for (const ToldEvent& told : toldAtRandom(random, 1500, 6)) builder.event(told.lane, told.event);
            const auto r = builder.finish();
            const int64_t from = r->begin + (r->end - r->begin) / 5, to = r->end - (r->end - r->begin) / 7;
            const auto waits = waitsIn(*r, TimeRange{from, to}, WaitsBy::Object);
            for (const uint32_t top : waits->top) {
                const WaitSum& object = waits->rows[top];
                const auto found = std::find(r->objects.begin(), r->objects.end(), object.name);
                if (found == r->objects.end()) continue;
                std::vector<TimeRange> spans;
                std::set<int64_t> instants{from, to};
                for (const Lane& lane : r->lanes)
                    for (const Wait& wait : lane.waits) {
                        if (wait.object != uint32_t(found - r->objects.begin()) || wait.begin == wait.end) continue;
                        spans.push_back({std::max(wait.begin, from), std::min(wait.end, to)});
                        if (spans.back().begin >= spans.back().end)
                            spans.pop_back();
                        else
                            instants.insert({spans.back().begin, spans.back().end});
                    }
                // Between two instants nothing changes.
                size_t most = 0;
                int64_t together = 0;
                for (auto at = instants.begin(); std::next(at) != instants.end(); ++at) {
                    const auto waiting = size_t(std::count_if(
                        spans.begin(), spans.end(), [&](const TimeRange& s) { return s.begin <= *at && s.end > *at; }));
                    most = std::max(most, waiting);
                    if (waiting > 1) together += *std::next(at) - *at;
                }
                if (object.atOnce) QCOMPARE(size_t(object.atOnce), std::max<size_t>(1, most));
                const bool idle =
                    object.kind == WaitKind::Pacing || object.kind == WaitKind::Sleep || object.kind == WaitKind::Job;
                const auto several = std::find_if(object.children.begin(), object.children.end(),
                                                  [&](uint32_t row) { return waits->rows[row].of == WaitRow::Queues; });
                QCOMPARE(several != object.children.end(), most > 1 && !idle);
                if (several == object.children.end()) continue;
                const WaitSum& queues = waits->rows[*several];
                QCOMPARE(queues.total, together);
                QCOMPARE(size_t(queues.atOnce), most);
                QCOMPARE(queues.children.size(), std::min<size_t>(queues.count, kMostQueues));
                QVERIFY(waits->rows[queues.children[0]].longestOne == queues.longestOne);
                QCOMPARE(size_t(waits->rows[queues.children[0]].atOnce), most);
            }
        }
        const auto r = queueing().open();
        const auto waits = waitsIn(*r, wholeOf(*r), WaitsBy::Object);
        const WaitSum* together = find(*waits, "main, helper");
        QVERIFY(together);
        QCOMPARE(together->longestOne.begin, int64_t{700'000});
        QCOMPARE(together->longestOne.end, int64_t{1'500'000});
    }

    void whoHeldALockIsNamedWithTheMarkerItWasIn() {
        const auto r = queueing().open();
        const auto waits = waitsIn(*r, wholeOf(*r), WaitsBy::Object);
        QCOMPARE(waits->count, uint64_t{3});
        const WaitSum& lock = waits->rows[waits->top[0]];
        QCOMPARE(lock.name, std::string("scene"));
        QCOMPARE(lock.total, int64_t{2'800'000});
        QCOMPARE(lock.longest, int64_t{1'800'000});
        QCOMPARE(lock.atOnce, 2u);
        QCOMPARE(find(*waits, "held by saver, in Save ▸ Flush")->total, int64_t{1'000'000 + 800'000});
        QCOMPARE(find(*waits, "held by saver, in Save ▸ Flush")->count, uint64_t{2});
        QCOMPARE(find(*waits, "held by saver, in Save ▸ Flush")->longest, int64_t{1'300'000});
        QCOMPARE(find(*waits, "held by main, in Frame")->total, int64_t{1'000'000});
        QCOMPARE(find(*waits, "main, in Frame")->count, uint64_t{1});
        QCOMPARE(find(*waits, "file")->total, int64_t{300'000});  // of a wait for nothing with a name
        // Each leads to its place.
        const auto table = waitTable(waits);
        for (Table::Row row = 0; row < table->rowLimit(); ++row) {
            const TablePlace place = table->place(row);
            const auto name = std::get<std::string>(table->value(row, kWaitWhat));
            const bool waited = waits->rows[row].of == WaitRow::Waits;
            QCOMPARE(place.marker.valid(), waited);
            QVERIFY(waited || place.begin < place.end);
            if (name == "held by saver, in Save ▸ Flush") {
                QCOMPARE(place.lane, laneNamed(*r, "saver"));
                QCOMPARE(place.begin, int64_t{200'000});
                QCOMPARE(place.end, int64_t{1'500'000});
            }
            if (name == "scene") {
                QCOMPARE(place.marker.lane, laneNamed(*r, "helper"));
                QCOMPARE(std::get<std::string>(table->value(row, kWaitKind)), std::string("lock"));
            }
        }
    }

    // ---- operations and files ----------------------------------------------------------------------------

    void operationsAreThoseOfASlowCount() {
        std::mt19937 random(43);
        const auto r = manyOperations(random).open();
        QCOMPARE(r->operations.size(), size_t{300});
        for (int k = 0; k < 12; ++k) {
            Scope scope = wholeOf(*r);
            if (k) {
                std::vector<TimeRange> ranges;
                for (int i = 0; i < 5; ++i) {
                    const int64_t begin = int64_t(random() % 120'000'000);
                    ranges.push_back({begin, begin + int64_t(random() % 9'000'000)});
                }
                scope = Scope(std::move(ranges));
            }
            if (k % 3 == 2)
                for (size_t lane = 0; lane < r->lanes.size(); ++lane) scope.lanes.push_back(random() % 2);
            const int64_t least = k % 2 ? 0 : 1'000'000;
            const auto within = [&](int64_t begin, int64_t end) {
                return std::any_of(scope.stretches.begin(), scope.stretches.end(),
                                   [&](const TimeRange& s) { return overlaps(begin, end, s); });
            };
            std::multiset<std::pair<int64_t, int64_t>> slow;  // duration, begin
            uint64_t shorter = 0;
            const auto add = [&](uint32_t lane, int64_t begin, int64_t end) {
                if (!scope.has(lane) || !within(begin, end)) return;
                if (end - begin < least)
                    ++shorter;
                else
                    slow.emplace(end - begin, begin);
            };
            for (const Operation& operation : r->operations) add(operation.beganOn, operation.begin, operation.end);
            for (uint32_t l = 0; l < r->lanes.size(); ++l)
                for (const Wait& wait : r->lanes[l].waits) add(l, wait.begin, wait.end);
            const auto list = operationsIn(*r, scope, least);
            std::multiset<std::pair<int64_t, int64_t>> quick;
            for (const ListedOperation& one : list->longest) {
                quick.emplace(one.end - one.begin, one.begin);
                QCOMPARE(one.file(), one.what == "Read");
                QCOMPARE(one.path, one.file() ? std::string("a.pak") : std::string());
                for (size_t i = 0; i < one.layers.size(); ++i)  // they follow one another from begin to end
                    QCOMPARE(one.layers[i].begin, i ? one.layers[i - 1].end : one.begin);
                if (!one.layers.empty()) QCOMPARE(one.layers.back().end, one.end);
            }
            QVERIFY(quick == slow);
            QCOMPARE(list->shorter, shorter);
            QCOMPARE(list->count, uint64_t(slow.size()));
            for (size_t i = 1; i < list->longest.size(); ++i)
                QVERIFY(list->longest[i - 1].end - list->longest[i - 1].begin >=
                        list->longest[i].end - list->longest[i].begin);
            // Together by path they are as many.
            const auto table = operationTable(r, list, OperationsBy::Path);
            int64_t count = 0;
            for (uint32_t at = 0; at < table->countBelow(Table::kTop); ++at)
                count += std::get<int64_t>(table->value(table->rowBelow(Table::kTop, at), kOperationCount));
            QCOMPARE(count, int64_t(list->count));
        }
        QVERIFY(!operationsIn(*r, wholeOf(*r), 0, [](double) { return false; }));
    }

    void whatAFileRequestReadAndHowAnOperationFailed() {
        TextRecording t;
        t.wait(100, "main", "Read file", "", "file");
        t.argument(110, "main", "path", TextRecording::quoted("boats/reef.png"))
            .argument(120, "main", "bytes", "41300");
        t.waitEnd(900, "main");
        t.at(1000, "main", R"("do":"operation","site":"Fetch","operation":1)");
        t.at(1500, "worker", R"("do":"operation_end","operation":1,"code":110,"text":"no answer")");
        t.at(1600, "main", R"("do":"operation","site":"Fetch","operation":2)").mark(1700, 1800, "main", "End");
        const auto r = t.open();
        const auto table = operationTable(r, operationsIn(*r, wholeOf(*r), 0), OperationsBy::Each);
        const auto row = [&](const std::string& result) {
            for (Table::Row one = 0; one < table->rowLimit(); ++one)
                if (valueText(table->columns()[kOperationResult], table->value(one, kOperationResult)) == result)
                    return one;
            return Table::kTop;
        };
        const Table::Row file = row(""), failed = row("failed, 110: no answer"), never = row("never ended");
        QVERIFY(file != Table::kTop && failed != Table::kTop && never != Table::kTop);
        QCOMPARE(std::get<std::string>(table->value(file, kOperationPath)), std::string("boats/reef.png"));
        QCOMPARE(valueText(table->columns()[kOperationBytes], table->value(file, kOperationBytes)),
                 std::string("41.3 kB"));
        QVERIFY(table->place(file).marker.valid());
        QCOMPARE(std::get<std::string>(table->value(failed, kOperationLane)), std::string("main → worker"));
        QVERIFY(table->emphasis(failed, kOperationResult) == Emphasis::Excess);
        QCOMPARE(table->place(failed).begin, int64_t{1'000'000});
    }

    void byLaneAndByMarker() {
        const auto r = queueing().open();
        const auto lanes = waitsIn(*r, wholeOf(*r), WaitsBy::Lane);
        QCOMPARE(find(*lanes, "main")->total, int64_t{1'300'000});
        QCOMPARE(find(*lanes, "main")->children.size(), size_t{2});
        const auto markers = waitsIn(*r, wholeOf(*r), WaitsBy::Marker);
        QCOMPARE(find(*markers, "Frame")->total, int64_t{1'000'000});
        QCOMPARE(find(*markers, "in no other marker")->total, int64_t{2'100'000});
        QVERIFY(waitTable(markers)->columns()[kWaitAtOnce].empty);
        // In a part of it, of what lies there.
        const auto part = waitsIn(*r, TimeRange{600'000, 900'000}, WaitsBy::Object);
        QCOMPARE(part->rows[part->top[0]].total, int64_t{500'000});
        QCOMPARE(find(*part, "held by saver, in Save ▸ Flush")->total, int64_t{500'000});
        QVERIFY(!waitsIn(*r, wholeOf(*r), WaitsBy::Object, [](double) { return false; }));
        QVERIFY(waitsIn(*TextRecording().mark(0, 5, "main", "A").open(), TimeRange{0, 9}, WaitsBy::Lane)->top.empty());
    }
};

QTEST_APPLESS_MAIN(WaitsTest)
#include "waits_test.moc"
