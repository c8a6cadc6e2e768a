// SPDX-License-Identifier: GPL-3.0-or-later
//
// Memory in a scope: against plain sums over every allocation, of random recordings.
#include <QtTest>
#include <random>
#include <sstream>

#include "core/ask/memory_table.h"
#include "core/model/model_builder.h"
#include "core/table/writing.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

/// Bytes that a pool has in use just after an instant, by its allocations.
int64_t inUse(const Recording& r, uint32_t pool, int64_t time) {
    int64_t bytes = 0;
    for (const Allocation& one : r.allocations)
        if ((pool == kNone || one.pool == pool) && one.taken <= time && one.released > time)
            bytes += static_cast<int64_t>(one.bytes);
    return bytes;
}

/// Every instant at which something changes.
std::set<int64_t> changes(const Recording& r) {
    std::set<int64_t> times;
    for (const Allocation& one : r.allocations) {
        times.insert(one.taken);
        if (one.isReleased()) times.insert(one.released);
    }
    return times;
}

std::string taking(const std::string& pool, const std::string& address, uint64_t bytes, const std::string& name) {
    return "\"do\":\"memory\",\"pool\":\"" + pool + "\",\"address\":" + address +
           ",\"bytes\":" + std::to_string(bytes) + (name.empty() ? "" : ",\"name\":\"" + name + "\"");
}
std::string giving(const std::string& pool, const std::string& address) {
    return "\"do\":\"memory_given\",\"pool\":\"" + pool + "\",\"address\":" + address;
}

/// Two pools, named and plain memory, released in any order and not always, by markers on two lanes.
std::shared_ptr<const Recording> randomMemory(std::mt19937& random) {
    TextRecording t;
    t.begin(0, "main", "Frame").begin(0, "worker", "Load");
    struct Held {
        std::string lane, pool, address;
    };
    std::vector<Held> held;
    for (int i = 1; i <= 300; ++i) {
        const double at = i * 10.0;
        const std::string lane = random() % 3 ? "main" : "worker";
        if (!held.empty() && random() % 5 < 2) {
            const size_t which = random() % held.size();
            t.at(at, held[which].lane, giving(held[which].pool, held[which].address));
            held.erase(held.begin() + static_cast<std::ptrdiff_t>(which));
            continue;
        }
        const bool inner = random() % 2;
        if (inner) t.begin(at, lane, "Unpack");
        const std::string pool = random() % 2 ? "sails" : "heap", address = std::to_string(4096 + i);
        const std::string name = random() % 2 ? "cloth " + std::to_string(i) : "";
        t.at(at + 1, lane, taking(pool, address, random() % 9 ? 1000 + random() % 500 : 90'000, name));
        if (inner) t.end(at + 2, lane);
        held.push_back({lane, pool, address});
    }
    t.end(4000, "main").end(4000, "worker");
    return t.open();
}

}  // namespace

class MemoryFiguresTest : public QObject {
    Q_OBJECT

private slots:
    void sumsAreThoseOfEveryAllocation() {
        std::mt19937 random(8);
        for (int round = 0; round < 8; ++round) {
            const auto r = randomMemory(random);
            QVERIFY(r->allocations.size() > 100 && r->pools.size() >= 2);
            std::vector<Scope> scopes{wholeOf(*r)};
            scopes.emplace_back(
                std::vector<TimeRange>{{500'000, 900'000}, {1'200'000, 1'300'000}, {2'000'000, 2'900'000}});
            scopes.push_back(scopes[1]);
            scopes.back().keepOnly(*r, random() % 2);
            for (const Scope& scope : scopes) {
                const int64_t instant = 1'000'000 + int64_t(random() % 1'500'000);
                const auto made = memoryFigures(*r, scope, instant);
                for (const PoolFigures& pool : made->pools) {
                    QCOMPARE(pool.now, inUse(*r, pool.pool, instant));
                    QCOMPARE(pool.begin, inUse(*r, pool.pool, scope.around().begin - 1));
                    QCOMPARE(pool.end, inUse(*r, pool.pool, scope.around().end - 1));
                    int64_t peak = 0;
                    for (const TimeRange& stretch : scope.stretches)
                        peak = std::max(peak, inUse(*r, pool.pool, stretch.begin));
                    for (const int64_t time : changes(*r))
                        if (scope.contains(time)) peak = std::max(peak, inUse(*r, pool.pool, time));
                    QCOMPARE(pool.peak, peak);
                    if (peak) QCOMPARE(inUse(*r, pool.pool, pool.peakAt), peak);
                    uint64_t taken = 0, released = 0, bytes = 0;
                    std::vector<uint64_t> alive;
                    for (const Allocation& one : r->allocations) {
                        if (one.pool != pool.pool) continue;
                        if (one.taken <= instant && one.released > instant && !r->text(one.name).empty())
                            alive.push_back(one.bytes);
                        if (!scope.has(one.lane)) continue;
                        taken += scope.contains(one.taken);
                        bytes += scope.contains(one.taken) ? one.bytes : 0;
                        released += one.isReleased() && scope.contains(one.released);
                    }
                    QCOMPARE(pool.taken, taken);
                    QCOMPARE(pool.takenBytes, bytes);
                    QCOMPARE(pool.released, released);
                    QCOMPARE(pool.allResources, alive.size());
                    std::sort(alive.rbegin(), alive.rend());
                    std::vector<uint64_t> sorted = alive;
                    std::sort(sorted.begin(), sorted.end());
                    for (size_t i = 0; i < alive.size(); ++i) {
                        QCOMPARE(r->allocations[pool.resources[i].allocation].bytes, alive[i]);
                        const double times =
                            alive.size() < kLikes ? 0 : double(alive[i]) / double(sorted[alive.size() / 2]);
                        QCOMPARE(pool.resources[i].timesMedian, times);
                    }
                }
                std::map<PathId, std::pair<uint64_t, uint64_t>> kept;
                for (const Allocation& one : r->allocations)
                    for (const TimeRange& stretch : scope.stretches)
                        if (scope.has(one.lane) && one.taken >= stretch.begin && one.taken < stretch.end &&
                            one.released >= stretch.end) {
                            ++kept[one.path].first;
                            kept[one.path].second += one.bytes;
                        }
                QCOMPARE(made->kept.size(), kept.size());
                for (const KeptMemory& one : made->kept) {
                    QCOMPARE(one.count, kept[one.path].first);
                    QCOMPARE(one.bytes, kept[one.path].second);
                    QVERIFY(one.neverBytes <= one.bytes && one.bytes <= one.takenBytes);
                }
            }
        }
    }

    void theCurveKeepsTheMostOfEachPart() {
        std::mt19937 random(9);
        const auto r = randomMemory(random);
        for (const uint32_t pool : {kNone, 0u, 1u})
            for (const size_t columns : {1u, 7u, 64u, 500u}) {
                const TimeRange range{300'000, 2'300'000};
                const auto curve = memoryCurve(*r, pool, range, columns);
                QCOMPARE(curve->most.size(), columns);
                int64_t peak = 0;
                for (size_t c = 0; c < columns; ++c) {
                    const auto part = [&](size_t column) {
                        return range.begin +
                               int64_t(double(range.end - range.begin) * double(column) / double(columns));
                    };
                    // What was in use where the part begins, and after each change in it.
                    int64_t most = inUse(*r, pool, part(c) - (c ? 0 : 1));
                    for (const int64_t time : changes(*r))
                        if (time >= part(c) && time < part(c + 1)) most = std::max(most, inUse(*r, pool, time));
                    const int64_t before = inUse(*r, pool, part(c) - 1);
                    QVERIFY2(
                        curve->most[c] == most || curve->most[c] == std::max(most, before),
                        qPrintable(QString("%1 of %2: %3, not %4").arg(c).arg(columns).arg(curve->most[c]).arg(most)));
                    peak = std::max(peak, curve->most[c]);
                }
                QCOMPARE(curve->peak, peak);
            }
    }

    void tablesSayWhatStandsOut() {
        TextRecording t;
        t.begin(0, "main", "Load");
        for (int i = 0; i < 8; ++i)
            t.at(10 + i, "main",
                 taking("sails", std::to_string(100 + i), i == 3 ? 900'000 : 100'000, "sail " + std::to_string(i)));
        t.at(30, "main", giving("sails", "101")).end(40, "main");
        const auto r = t.open();
        const auto pools = poolTable(r, memoryFigures(*r, wholeOf(*r), 25'000));
        const auto textAt = [&](Table::Row row, size_t column) {
            return valueText(pools->columns()[column], pools->value(row, column));
        };
        QCOMPARE(pools->countBelow(Table::kTop), 1u);
        QCOMPARE(pools->countBelow(0), 8u);
        QCOMPARE(textAt(0, kPoolNow), std::string("1.6 MB"));
        QCOMPARE(textAt(1, kPoolName), std::string("sail 3"));
        QCOMPARE(textAt(1, kPoolTimesMedian), std::string("9"));
        QVERIFY(pools->emphasis(1, kPoolTimesMedian) == Emphasis::Excess);
        QVERIFY(pools->emphasis(2, kPoolTimesMedian) == Emphasis::None);
        QCOMPARE(textAt(1, kPoolTakenIn), std::string("Load"));
        QCOMPARE(r->nameOf(r->pathOf(pools->place(1).marker)), std::string("Load"));
        const auto kept = keptTable(r, memoryFigures(*r, wholeOf(*r), 0));
        std::ostringstream csv;
        writeCsv(*kept, csv);
        QCOMPARE(csv.str(), std::string("marker,held_bytes,held,never_bytes,never,taken_bytes,taken\r\n"
                                        "Load,1500000,7,1500000,7,1600000,8\r\n"));
        QCOMPARE(valueText({"", "", Quantity::Bytes, ""}, int64_t{-1'500'000}), std::string("−1.5 MB"));
    }
};

QTEST_APPLESS_MAIN(MemoryFiguresTest)
#include "memory_figures_test.moc"
