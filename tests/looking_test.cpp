// SPDX-License-Identifier: GPL-3.0-or-later
//
// Edges that one measures between, what a marker is connected with, and everything at one instant: against slow looks
// at every marker, and recordings written by hand.
#include <QtTest>
#include <random>
#include <set>

#include "core/ask/connections.h"
#include "core/ask/edges.h"
#include "core/ask/instant_table.h"
#include "core/ask/scope.h"
#include "core/explain/words/quantities.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

using Kind = Connection::Kind;

std::optional<int64_t> beside(const std::set<int64_t>& edges, int64_t from, bool forward) {
    if (forward) {
        const auto after = edges.upper_bound(from);
        return after == edges.end() ? std::nullopt : std::optional(*after);
    }
    const auto at = edges.lower_bound(from);
    return at == edges.begin() ? std::nullopt : std::optional(*std::prev(at));
}

/// "EndedBy:crew/Job": a connection's kind and what is at its other end.
std::multiset<std::string> told(const Recording& r, const Connections& connections) {
    static constexpr const char* kNames[] = {"EndedBy",        "LikelyEndedBy", "WokenBy", "EndedWait",
                                             "AskedForBy",     "AskedFor",      "HeldBy",  "HeldUp",
                                             "BeganOperation", "EndedOperation"};
    std::multiset<std::string> all;
    for (const Connection& c : connections.list)
        all.insert(std::string(kNames[static_cast<size_t>(c.kind)]) + ":" + r.lanes[c.lane].name + "/" +
                   (c.marker.valid() ? r.nameOf(r.pathOf(c.marker)) : "-"));
    return all;
}

MarkerRef named(const Recording& r, const std::string& lane, const std::string& name, uint32_t which = 0) {
    const uint32_t at = laneNamed(r, lane);
    for (uint32_t row = 0; row < r.lanes[at].rows.size(); ++row)
        for (uint32_t i = 0; i < r.lanes[at].rows[row].size(); ++i)
            if (r.nameOf(r.lanes[at].rows[row].path(i)) == name && !which--) return {at, row, i};
    return {};
}

using Told = std::multiset<std::string>;

}  // namespace

class LookingTest : public QObject {
    Q_OBJECT
private slots:
    void edgesAreTheNearestOnes() {
        for (uint32_t seed = 1; seed <= 6; ++seed) {
            Making making;
            making.seed = seed;
            making.events = 1500;
            making.frameEvery = 30;
            const Made made = making.make();
            const Recording& r = *made.recording;
            std::vector<std::set<int64_t>> edges(r.lanes.size());
            for (const ToldMarker& marker : made.markers) {
                edges[marker.lane].insert(marker.begin);
                edges[marker.lane].insert(marker.end);
            }
            std::set<int64_t> frames;
            for (const Frame& frame : r.series[0].frames) {
                frames.insert(frame.begin);
                frames.insert(frame.end);
            }
            std::mt19937 random(seed);
            for (int i = 0; i < 3000; ++i) {
                const uint32_t lane = random() % r.lanes.size();
                int64_t from = r.begin + static_cast<int64_t>(random() % static_cast<uint64_t>(r.end - r.begin + 1));
                if (random() % 2)  // at an edge
                    from = *std::next(edges[lane].begin(), static_cast<int64_t>(random() % edges[lane].size()));
                const bool forward = random() % 2;
                QCOMPARE(edgeBeside(r, EdgeOf::Markers, lane, 0, from, forward), beside(edges[lane], from, forward));
                QCOMPARE(edgeBeside(r, EdgeOf::Frames, lane, 0, from, forward), beside(frames, from, forward));
            }
        }
    }

    void anEdgeNearAPlaceIsFound() {
        Making making;
        making.depth = 1;
        const Made made = making.make();
        const Recording& r = *made.recording;
        std::set<int64_t> edges;
        for (const ToldMarker& marker : made.markers)
            if (marker.lane == 0) {
                edges.insert(marker.begin);
                edges.insert(marker.end);
            }
        std::mt19937 random(3);
        for (int i = 0; i < 3000; ++i) {
            const int64_t time = static_cast<int64_t>(random() % static_cast<uint64_t>(r.end));
            const int64_t reach = static_cast<int64_t>(random() % 300);
            std::optional<int64_t> nearest;
            for (const bool forward : {false, true})
                if (const auto edge = beside(edges, forward ? time - 1 : time + 1, forward);
                    edge && std::abs(*edge - time) <= reach &&
                    (!nearest || std::abs(*edge - time) < std::abs(*nearest - time)))
                    nearest = edge;
            const auto found = edgeNear(r.lanes[0].rows[0], time, reach);
            QCOMPARE(found.has_value(), nearest.has_value());
            if (found) QCOMPARE(std::abs(*found - time), std::abs(*nearest - time));
        }
    }

    void pointsAndCountersHaveEdges() {
        TextRecording text;
        text.lane("main", 1).lane("crew", 2);
        text.line(R"({"define":"counter","id":1,"name":"sails","unit":""})");
        const std::string point = R"("do":"point","severity":"info","text":"gybe")";
        text.begin(0, "main", "Race").at(10, "main", point);
        text.at(15, "main", R"("do":"count","counter":"sails","value":3)");
        text.at(20, "crew", point).at(30, "main", point).end(40, "main");
        const auto r = text.open();
        const auto at = [&](EdgeOf of, uint32_t lane, double us, bool forward) {
            const auto found = edgeBeside(*r, of, lane, 0, static_cast<int64_t>(us * 1000), forward);
            return found ? static_cast<double>(*found) / 1000 : -1;
        };
        QCOMPARE(at(EdgeOf::Points, kNone, 10, true), 20.0);
        QCOMPARE(at(EdgeOf::Points, laneNamed(*r, "main"), 10, true), 30.0);
        QCOMPARE(at(EdgeOf::Points, laneNamed(*r, "main"), 30, false), 10.0);
        QCOMPARE(at(EdgeOf::Points, kNone, 30, true), -1.0);
        QCOMPARE(at(EdgeOf::Counters, kNone, 0, true), 15.0);
        QCOMPARE(at(EdgeOf::Counters, kNone, 15, false), -1.0);
        QCOMPARE(at(EdgeOf::Frames, kNone, 0, true), -1.0);  // no series
    }

    void linksLeadBothWays() {
        TextRecording text;
        text.lane("main", 1).lane("crew", 2);
        text.begin(0, "main", "Race").begin(2, "main", "Ask").linkOut(3, "main", 7).end(4, "main");
        text.begin(5, "crew", "Job").linkIn(5, "crew", 7).begin(6, "crew", "Trim").end(8, "crew");
        text.linkOut(9, "crew", 8).end(9, "crew");
        text.wait(5, "main", "Wait", "", "job").waitEnd(10, "main", 8).end(12, "main");
        const auto r = text.open();
        const auto of = [&](const char* lane, const char* name) {
            return told(*r, *connectionsOf(*r, named(*r, lane, name)));
        };
        QCOMPARE(of("main", "Ask"), Told({"AskedFor:crew/Job"}));
        QCOMPARE(of("crew", "Job"), Told({"AskedForBy:main/Ask", "EndedWait:main/Wait"}));
        QCOMPARE(of("main", "Wait"), Told({"EndedBy:crew/Job"}));
        QCOMPARE(of("crew", "Trim"), Told());
        const auto asked = connectionsOf(*r, named(*r, "main", "Ask"));
        QCOMPARE(asked->list[0].here, 3'000);
        QCOMPARE(asked->list[0].there, 5'000);
        QCOMPARE(connectionText(*r, asked->list[0]), std::string("asked for ‘Job’ on crew, 2.0 µs later"));
    }

    void locksLeadBothWays() {
        TextRecording text;
        text.lane("main", 1).lane("crew", 2);
        text.begin(0, "crew", "Reef").taken(1, "crew", "sail locker");
        text.begin(0, "main", "Race").wait(3, "main", "Wait for locker", "sail locker", "lock");
        text.given(8, "crew", "sail locker").end(9, "crew");
        text.waitEnd(8, "main").end(12, "main");
        const auto r = text.open();
        const auto wait = connectionsOf(*r, named(*r, "main", "Wait for locker"));
        QCOMPARE(told(*r, *wait), Told({"HeldBy:crew/Reef"}));
        QCOMPARE(wait->list[0].time, 7'000);
        const auto held = connectionsOf(*r, named(*r, "crew", "Reef"));
        QCOMPARE(told(*r, *held), Told({"HeldUp:main/Wait for locker"}));
        QCOMPARE(connectionText(*r, held->list[0]),
                 std::string("held sail locker, for which ‘Race ▸ Wait for locker’ on main waited 5.0 µs"));
    }

    void operationsLeadBothWays() {
        TextRecording text;
        text.lane("main", 1).lane("crew", 2);
        text.begin(0, "main", "Race").at(1, "main", R"("do":"operation","site":"Load sails","operation":4)");
        text.end(2, "main").begin(5, "crew", "Unpack");
        text.at(6, "crew", R"("do":"operation_end","operation":4)").end(7, "crew");
        const auto r = text.open();
        QCOMPARE(told(*r, *connectionsOf(*r, named(*r, "main", "Race"))), Told({"BeganOperation:crew/Unpack"}));
        QCOMPARE(told(*r, *connectionsOf(*r, named(*r, "crew", "Unpack"))), Told({"EndedOperation:main/Race"}));
    }

    void manyAreCutAndItIsSaid() {
        TextRecording text;
        text.lane("main", 1).lane("crew", 2);
        text.begin(0, "main", "Ask");
        for (int i = 1; i <= 40; ++i) text.linkOut(i, "main", i);
        text.end(50, "main");
        for (int i = 1; i <= 40; ++i)
            text.begin(100 + i * 2, "crew", "Job").linkIn(100 + i * 2, "crew", i).end(101 + i * 2, "crew");
        const auto r = text.open();
        const auto asked = connectionsOf(*r, named(*r, "main", "Ask"));
        QCOMPARE(asked->list.size(), kMostConnections);
        QVERIFY(asked->more);
        QVERIFY(!connectionsOf(*r, named(*r, "crew", "Job", 30))->more);
        QVERIFY(connectionsOf(*r, named(*r, "crew", "Job", 30))->list.size() == 1);
    }

    void whatOneFindsFindsItBack() {
        for (uint32_t seed = 1; seed <= 8; ++seed) {
            std::mt19937 random(seed);
            ModelBuilder builder(Storage::inMemory());
            defineTold(builder);
            for (const ToldEvent& one : toldAtRandom(random, 900)) builder.event(one.lane, one.event);
            const auto r = builder.finish();
            for (uint32_t lane = 0; lane < r->lanes.size(); ++lane)
                for (uint32_t row = 0; row < r->lanes[lane].rows.size(); ++row)
                    for (uint32_t i = 0; i < r->lanes[lane].rows[row].size(); ++i) {
                        const auto found = connectionsOf(*r, {lane, row, i});
                        for (const Connection& c : found->list) {
                            QVERIFY(c.lane < r->lanes.size());
                            QVERIFY(!connectionText(*r, c).empty());
                            const bool byLock = c.kind == Kind::HeldBy || c.kind == Kind::HeldUp;
                            if (!c.marker.valid() || found->more || c.kind == Kind::LikelyEndedBy) continue;
                            QCOMPARE(c.marker.lane, c.lane);
                            QVERIFY(holds(*r, c.marker));
                            if (byLock) continue;  // a lock that was never told to be free has no end there
                            const auto back = connectionsOf(*r, c.marker);
                            QVERIFY(back->more || std::any_of(back->list.begin(), back->list.end(),
                                                              [&](const Connection& b) { return b.lane == lane; }));
                        }
                    }
        }
    }

    void everyLaneIsToldAtAnInstant() {
        for (uint32_t seed = 1; seed <= 4; ++seed) {
            Making making;
            making.seed = seed;
            const Made made = making.make();
            std::mt19937 random(seed);
            for (int i = 0; i < 60; ++i) {
                const auto at = static_cast<int64_t>(random() % static_cast<uint64_t>(made.recording->end));
                const auto table = instantTable(made.recording, at);
                for (uint32_t lane = 0; lane < made.recording->lanes.size(); ++lane) {
                    // Slowly: the deepest that is open then, or ends just then.
                    const ToldMarker* deepest = nullptr;
                    for (const ToldMarker& m : made.markers)
                        if (m.lane == lane && m.begin <= at && m.end > at && (!deepest || m.row > deepest->row))
                            deepest = &m;
                    Table::Row row = 0;
                    while (table->value(row, kInstantWhat) != TableValue(made.recording->lanes[lane].name)) ++row;
                    QCOMPARE(table->place(row).marker.valid(), deepest != nullptr);
                    if (!deepest) continue;
                    QCOMPARE(table->place(row).marker, (MarkerRef{lane, deepest->row, deepest->index}));
                    QCOMPARE(table->value(row, kInstantFor), TableValue(at - deepest->begin));
                    QCOMPARE(table->value(row, kInstantWhole), TableValue(deepest->end - deepest->begin));
                }
            }
        }
    }

    void theRestIsToldToo() {
        TextRecording text;
        text.lane("main", 1);
        text.line(R"({"define":"counter","id":1,"name":"sails","unit":"m²","threshold":5})");
        text.frame(0, "main", 10).at(0, "main", R"("do":"state","state":"stage","value":"Harbour")");
        text.at(4, "main", R"("do":"count","counter":"sails","value":3)");
        text.at(10, "main", R"("do":"state","state":"stage","value":"Race")");
        text.at(12, "main", R"("do":"count","counter":"sails","value":8)");
        text.at(13, "main", R"("do":"operation","site":"Load sails","operation":4)");
        text.frameEnd(16, "main").at(18, "main", R"("do":"operation_end","operation":4)");
        const auto r = text.open();
        const auto valueOf = [&](double us, const std::string& name) -> TableValue {
            const auto table = instantTable(r, static_cast<int64_t>(us * 1000));
            for (Table::Row row = 0; row < table->rowLimit(); ++row)
                if (table->parentOf(row) != Table::kTop && table->value(row, kInstantWhat) == TableValue(name))
                    return table->value(row, kInstantValue);
            return {};
        };
        const auto text_ = [](const char* words) { return TableValue(std::string(words)); };
        QCOMPARE(valueOf(5, "stage"), text_("Harbour"));
        QCOMPARE(valueOf(10, "stage"), text_("Race"));
        QCOMPARE(valueOf(3, "sails"), TableValue());
        QCOMPARE(valueOf(5, "sails"), text_("3 m²"));
        QCOMPARE(valueOf(14, "sails"), text_("8 m², above its threshold of 5"));
        QCOMPARE(valueOf(14, "Load sails"), text_("begun on main"));
        QCOMPARE(valueOf(19, "Load sails"), TableValue());
        QCOMPARE(valueOf(5, "loop"), text_("frame 0, 6.0 µs late"));
        QCOMPARE(pictureAt(*r, 1000), kNoPicture);
    }

    void exactTimes() {
        QCOMPARE(QString::fromStdString(exactText(3'214'567)), QString("3.214\u202f567 ms"));
        QCOMPARE(QString::fromStdString(exactText(-1'002'003'004)), QString("−1.002\u202f003\u202f004 s"));
        QCOMPARE(QString::fromStdString(exactText(95)), QString("95 ns"));
        QCOMPARE(QString::fromStdString(exactText(1'500)), QString("1.500 µs"));
        QCOMPARE(QString::fromStdString(exactText(INT64_MIN)),
                 QString("−9\u202f223\u202f372\u202f036.854\u202f775\u202f808 s"));
    }
};

QTEST_MAIN(LookingTest)
#include "looking_test.moc"
