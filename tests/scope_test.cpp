// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is looked at: choices become stretches of time and lanes; markers in them beside what is usual there.
#include <QtTest>
#include <random>

#include "core/ask/scope_choice.h"
#include "core/explain/words/quantities.h"
#include "core/table/writing.h"
#include "testing/explaining.h"

using namespace fugato;

namespace {

using Of = ScopeChoice::Of;

/// Thirty usual frames, three late ones in a row, a usual one, one late one; a helper that works in each frame. Stages
/// Harbour and Race, of which the second begins with the late frames.
TextRecording race() {
    TextRecording t;
    t.at(0, "main", R"("do":"state","state":"stage","value":"Harbour")");
    double at = 0;
    for (int i = 0; i < 35; ++i, at += 40'000) {
        const bool late = (i >= 30 && i < 33) || i == 34;
        const double work = late ? 20'000 : 6'000;
        if (i == 30) t.at(at - 1, "main", R"("do":"state","state":"stage","value":"Race")");
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 1000, at + 1000 + work, "main", "Work");
        t.end(at + 2000 + work, "main").frameEnd(at + 2000 + work, "main");
        t.mark(at + 500, at + 1500, "helper", "Sort");
    }
    return t;
}

}  // namespace

class ScopeTest : public QObject {
    Q_OBJECT
    std::shared_ptr<const Explanation> e_;

    Result<ChosenScope> chosen(Of of, ScopeContext context = {}, ScopeChoice choice = {}) const {
        choice.of = of;
        return chosenScope(*e_->recording, e_.get(), choice, context);
    }
    TimeRange frame(uint32_t i) const { return {e_->frame(i).begin, e_->frame(i).end}; }
    std::string wordsOf(Of of, const ScopeContext& context = {}) const {
        const auto scope = chosen(of, context);
        ScopeChoice choice;
        choice.of = of;
        const auto words = scopeWords(*e_->recording, e_.get(), choice, context);
        if (!scope) return words.failure().sentence;
        return scope->words == *words ? *words : "not the same: " + scope->words + ", " + *words;
    }

private slots:
    void initTestCase() {
        e_ = explained(race().open(), 10'000'000);
        QCOMPARE(e_->late, (std::vector<uint32_t>{30, 31, 32, 34}));
        QCOMPARE(e_->spikes.size(), size_t{2});
    }

    void choicesBecomeStretches() {
        const ScopeContext at31{31, 0, std::nullopt, {5, 9}, {}};
        QCOMPARE(chosen(Of::Frame, at31)->scope.stretches, std::vector<TimeRange>{frame(31)});
        QCOMPARE(chosen(Of::Spike, at31)->scope.stretches, (std::vector<TimeRange>{{frame(30).begin, frame(32).end}}));
        QCOMPARE(chosen(Of::Cause, at31)->scope.stretches,
                 (std::vector<TimeRange>{frame(30), frame(31), frame(32), frame(34)}));
        QCOMPARE(chosen(Of::Late)->scope.stretches, chosen(Of::Cause, at31)->scope.stretches);
        QCOMPARE(chosen(Of::View, at31)->scope.stretches, (std::vector<TimeRange>{{5, 9}}));
        QCOMPARE(chosen(Of::Whole)->scope.stretches, std::vector<TimeRange>{wholeOf(*e_->recording)});
        ScopeContext selected;
        selected.selected = TimeRange{100, 300};
        QCOMPARE(chosen(Of::Selection, selected)->scope.stretches, (std::vector<TimeRange>{{100, 300}}));
        ScopeChoice race;
        race.stage = "Race";
        const auto stage = chosen(Of::Stage, {}, race);
        QCOMPARE(stage->scope.stretches.size(), size_t{1});
        QVERIFY(stage->scope.contains(frame(30).begin) && !stage->scope.contains(frame(29).end));
        // A marker is on its lane.
        const uint32_t helper = laneNamed(*e_->recording, "helper");
        ScopeContext marker;
        marker.marker = {helper, 0, 2};
        const auto sort = chosen(Of::Marker, marker);
        QCOMPARE(sort->scope.stretches, (std::vector<TimeRange>{{80'500'000, 81'500'000}}));
        QVERIFY(sort->scope.has(helper) && !sort->scope.has(laneNamed(*e_->recording, "main")));
    }

    void eachIsSaidInWords() {
        const ScopeContext at31{31, 0, TimeRange{0, 1'200'000'000}, {0, 32'000'000}, {}};
        QCOMPARE(wordsOf(Of::Frame, at31), std::string("frame 31"));
        QCOMPARE(wordsOf(Of::Spike, at31), std::string("spike of 3 frames"));
        QCOMPARE(wordsOf(Of::Cause, at31), std::string("4 late frames of A"));
        QCOMPARE(wordsOf(Of::Late, at31), std::string("4 late frames"));
        QCOMPARE(wordsOf(Of::Selection, at31), std::string("1.20 s selected"));
        QCOMPARE(wordsOf(Of::View, at31), std::string("32.0 ms in view"));
        QCOMPARE(wordsOf(Of::Whole), std::string("whole recording"));
    }

    void whyThereIsNoneIsSaidToo() {
        QCOMPARE(wordsOf(Of::Frame), std::string("No frame is selected."));
        QCOMPARE(wordsOf(Of::Cause), std::string("No cause is selected."));
        QVERIFY(wordsOf(Of::Selection).find("No time is selected.") == 0);
        QVERIFY(wordsOf(Of::Marker).find("No marker is selected.") == 0);
        ScopeContext inTime;
        inTime.frame = 3;
        QVERIFY(wordsOf(Of::Spike, inTime).find("is not late") != std::string::npos);
        ScopeChoice stage;
        stage.stage = "Lunch";
        QCOMPARE(chosen(Of::Stage, {}, stage).failure().sentence, std::string("The recording has no stage Lunch."));
        TextRecording good;
        usualFrames(good, 3);
        const auto none = explained(good.open());
        ScopeChoice late;
        late.of = Of::Late;
        QCOMPARE(chosenScope(*none->recording, none.get(), late, {}).failure().sentence,
                 std::string("No frame is late."));
        QVERIFY(!chosenScope(*none->recording, nullptr, late, {}).ok());  // nor before anything is explained
        QVERIFY(usualScope(*none->recording).of == Of::Frame);
        QVERIFY(usualScope(*TextRecording().mark(0, 5, "main", "A").open()).of == Of::Whole);
    }

    void lanesAreAllOrOfTheMarkerOrOfOneRole() {
        const Recording& r = *e_->recording;
        const uint32_t helper = laneNamed(r, "helper");
        ScopeChoice choice;
        choice.lanes = ScopeChoice::Lanes::Group;
        choice.group = "helper";
        const auto grouped = chosen(Of::Late, {}, choice);
        QCOMPARE(grouped->words, std::string("4 late frames on helper"));
        const auto nested = nestedMarkers(r, grouped->scope);
        QCOMPARE(nested->lanes.size(), size_t{1});
        QCOMPARE(nested->rows[nested->lanes[0]].lane, helper);
        QCOMPARE(nested->markers(), uint64_t{4});
        choice.group = "crew";
        QCOMPARE(chosen(Of::Late, {}, choice).failure().sentence, std::string("The recording has no lanes of crew."));
        choice.lanes = ScopeChoice::Lanes::OfMarker;
        QVERIFY(chosen(Of::Late, {}, choice).failure().sentence.find("No marker is selected") == 0);
        ScopeContext context;
        context.marker = {helper, 0, 0};
        QCOMPARE(chosen(Of::Whole, context, choice)->words, std::string("whole recording on helper"));
    }

    // ---- beside what is usual ----------------------------------------------------------------------------

    const NestedMarker* find(const NestedMarkers& table, const char* lane, const char* path) const {
        for (const NestedMarker& row : table.rows)
            if (row.lane == laneNamed(*e_->recording, lane) && pathOf(*e_->recording, row.path) == path) return &row;
        return nullptr;
    }

    void whatIsUsualIsAddedUpOverTheFrames() {
        UsualMarkers usual(e_);
        const auto late = usual.of(chosen(Of::Late)->scope);
        QCOMPARE(find(*late, "main", "Frame/Work")->total, int64_t{80'000'000});
        QCOMPARE(find(*late, "main", "Frame/Work")->usual, int64_t{24'000'000});
        QCOMPARE(find(*late, "main", "Frame/Work")->excess(), int64_t{56'000'000});
        QCOMPARE(find(*late, "helper", "Sort")->usual, int64_t{4'000'000});
        QCOMPARE(find(*late, "helper", "Sort")->excess(), int64_t{0});
        QCOMPARE(late->frames, 4.0);
        QCOMPARE(late->frameTime, int64_t{88'000'000});
        QCOMPARE(late->budget, int64_t{40'000'000});
        QVERIFY(late->late);
        // Half of a frame has half of it.
        const TimeRange first = frame(3);
        const auto half = usual.of(TimeRange{first.begin, (first.begin + first.end) / 2});
        QCOMPARE(half->frames, 0.5);
        QCOMPARE(find(*half, "main", "Frame/Work")->usual, int64_t{3'000'000});
        QVERIFY(!half->late);
        // Between frames nothing is known to be usual.
        const auto between = usual.of(TimeRange{first.end + 100, first.end + 1000});
        QCOMPARE(between->frames, 0.0);
        QVERIFY(between->rows.empty());
        // The frames of the spike lie in it with what is between them.
        QCOMPARE(usual.of(chosen(Of::Spike, {31, 0, {}, {}, {}})->scope)->frames, 3.0);
        QVERIFY(!usual.of(wholeOf(*e_->recording), [](double) { return false; }));
    }

    // ---- figures of frames -------------------------------------------------------------------------------

    void figuresOfFramesAreThoseOfASlowCount() {
        std::mt19937 random(47);
        for (int round = 0; round < 8; ++round) {
            TextRecording t;
            double at = 0;
            for (int i = 0; i < 200; ++i) {
                const double length = 4000 + random() % (random() % 7 ? 5000 : 30'000);
                t.frame(at, "main").mark(at + 10, at + length - 10, "main", "Work").frameEnd(at + length, "main");
                at += length + (random() % 2 ? 0 : random() % 3000);
            }
            const auto e = explained(t.open());
            std::vector<TimeRange> ranges;
            for (int i = 0; i < 4; ++i) {
                const int64_t begin = int64_t(random() % uint64_t(at * 1000));
                ranges.push_back({begin, begin + int64_t(random() % 400'000'000)});
            }
            const Scope scope = round ? Scope(ranges) : Scope(wholeOf(*e->recording));
            const auto quick = figuresOfFrames(*e, scope);
            std::vector<int64_t> durations;
            size_t over = 0, near = 0, inARow = 0, most = 0;
            int64_t late = 0, apart = 0, pairs = 0;
            for (uint32_t i = 0; i < e->frames.size(); ++i) {
                const bool in = scope.contains(e->frame(i).begin);
                if (!in || e->frames[i].overrun <= 0) inARow = 0;
                if (!in) continue;
                durations.push_back(e->frame(i).duration());
                over += e->frames[i].state == FrameState::Over;
                near += e->frames[i].state == FrameState::Near;
                late += std::max<int64_t>(0, e->frames[i].overrun);
                if (e->frames[i].overrun > 0) most = std::max(most, ++inARow);
                if (i && scope.contains(e->frame(i - 1).begin)) {
                    apart += std::abs(e->frame(i).duration() - e->frame(i - 1).duration());
                    ++pairs;
                }
            }
            QCOMPARE(quick->frames, durations.size());
            QCOMPARE(quick->over, over);
            QCOMPARE(quick->near, near);
            QCOMPARE(quick->late, late);
            QCOMPARE(quick->lateInARow, most);
            std::sort(durations.begin(), durations.end());
            QVERIFY(quick->durations == durations);
            if (durations.empty()) continue;
            QCOMPARE(quick->median, durations[(durations.size() + 1) / 2 - 1]);
            QCOMPARE(quick->longest, durations.back());
            QCOMPARE(e->frame(quick->longestFrame).duration(), durations.back());
            if (pairs) QVERIFY(std::abs(quick->unevenness - apart / pairs) <= 1);
        }
    }

    void twoStretchesDifferByTheirMarkers() {
        const Recording& r = *e_->recording;
        const auto late = figuresOfFrames(*e_, chosen(Of::Late)->scope), all = figuresOfFrames(*e_, wholeOf(r));
        QCOMPARE(late->frames, size_t{4});
        QCOMPARE(late->lateInARow, size_t{3});
        QCOMPARE(late->lateFrom, 30u);
        QCOMPARE(textsOf(*late)[0], std::string("4 frames, 4 over, 48.0 ms late in all, 0 near"));
        QCOMPARE(textsOf(*late)[3], std::string("At most 3 late in a row, from frame 30"));
        const auto differences = differencesOf(r, *nestedMarkers(r, chosen(Of::Late)->scope), late->frames,
                                               *nestedMarkers(r, wholeOf(r)), all->frames);
        QCOMPARE(r.nameOf(differences[0].path), std::string("Work"));
        QCOMPARE(differences[0].here, 20e6);
        QCOMPARE(differences[0].there, (31 * 6e6 + 4 * 20e6) / 35);
        const auto table = differenceTable(e_->recording, differences);
        QCOMPARE(table->value(0, kDifferenceMarker), TableValue("Frame ▸ Work"));
        QVERIFY(table->emphasis(0, kDifferenceDifference) == Emphasis::Excess);
        const auto none = figuresOfFrames(*e_, TimeRange{1, 2});
        QCOMPARE(textsOf(*none), std::vector<std::string>{"No frame begins there"});
        QVERIFY(!figuresOfFrames(*e_, wholeOf(r), [](double) { return false; }));
    }

    // ---- counters and states -----------------------------------------------------------------------------

    void countersAreThoseOfASlowCount() {
        std::mt19937 random(53);
        for (int round = 0; round < 6; ++round) {
            TextRecording t;
            t.line(R"({"define":"counter","id":1,"name":"drops","unit":"pieces","threshold":70})");
            std::vector<std::pair<int64_t, double>> told;
            std::vector<std::pair<double, std::string>> lines;
            for (double at = random() % 900; at < 400'000; at += 1 + random() % 3000) {
                const double value = random() % 100;
                told.emplace_back(static_cast<int64_t>(at * 1000), value);
                lines.emplace_back(at, R"("do":"count","counter":1,"value":)" + std::to_string(value));
            }
            double at = 0;
            for (int i = 0; i < 40; ++i) {
                lines.emplace_back(at, R"("do":"frame","series":"loop","deadline_ns":8000000)");
                at += 4000 + random() % 7000;
                lines.emplace_back(at, R"("do":"frame_end","series":"loop")");
            }
            std::stable_sort(lines.begin(), lines.end(), [](auto& a, auto& b) { return a.first < b.first; });
            for (const auto& [time, what] : lines) t.at(time, "main", what);
            const auto e = explained(t.open());
            const Recording& r = *e->recording;
            std::vector<TimeRange> ranges;
            for (int i = 0; i < 3; ++i) {
                const int64_t begin = int64_t(random() % 350'000'000);
                ranges.push_back({begin, begin + 1 + int64_t(random() % 60'000'000)});
            }
            const Scope scope(ranges);
            const int64_t instant = int64_t(random() % 400'000'000);
            const auto quick = counterFigures(r, e.get(), scope, instant);
            QCOMPARE(quick->counters.size(), size_t{1});
            const CounterFigures& f = quick->counters[0];
            /// The value in force, or none.
            const auto valueAt = [&](int64_t time) {
                std::optional<double> value;
                for (const auto& [when, what] : told)
                    if (when <= time) value = what;
                return value;
            };
            QVERIFY(f.now == valueAt(instant));
            double sum = 0, least = 1e9, greatest = -1;
            int64_t held = 0;
            uint64_t values = 0;
            const auto holding = [&](int64_t begin, int64_t end, auto&& take) {
                std::vector<int64_t> edges{begin};
                for (const auto& [when, what] : told)
                    if (when > begin && when < end) edges.push_back(when);
                edges.push_back(end);
                for (size_t i = 1; i < edges.size(); ++i)
                    if (const auto value = valueAt(edges[i - 1])) take(*value, edges[i] - edges[i - 1]);
            };
            for (const TimeRange& s : scope.stretches) {
                holding(s.begin, s.end, [&](double value, int64_t ns) {
                    sum += value * double(ns);
                    held += ns;
                    least = std::min(least, value);
                    greatest = std::max(greatest, value);
                });
                for (const auto& one : told) values += one.first >= s.begin && one.first < s.end;
            }
            QVERIFY(std::abs(*f.mean - sum / double(held)) < 1e-6);
            QCOMPARE(*f.least, least);
            QCOMPARE(*f.greatest, greatest);
            QCOMPARE(f.values, values);
            size_t late = 0, lateBeyond = 0, others = 0, otherBeyond = 0;
            for (uint32_t i = 0; i < e->frames.size(); ++i) {
                if (!scope.contains(e->frame(i).begin)) continue;
                bool beyond = false;
                holding(e->frame(i).begin, e->frame(i).end, [&](double value, int64_t) { beyond |= value > 70; });
                const bool isLate = e->frames[i].overrun > 0;
                ++(isLate ? late : others);
                (isLate ? lateBeyond : otherBeyond) += beyond;
            }
            QCOMPARE(quick->lateFrames, late);
            QCOMPARE(quick->otherFrames, others);
            QCOMPARE(f.lateBeyond, lateBeyond);
            QCOMPARE(f.otherBeyond, otherBeyond);
        }
    }

    void statesAreToldWithTheTimesOfTheirValues() {
        const Recording& r = *e_->recording;
        const auto figures = counterFigures(r, e_.get(), wholeOf(r), frame(31).begin);
        QCOMPARE(figures->states.size(), size_t{1});
        QCOMPARE(figures->states[0].now, std::string("Race"));
        QCOMPARE(figures->states[0].times.size(), size_t{2});
        QCOMPARE(figures->states[0].times[0].value, std::string("Harbour"));
        QCOMPARE(figures->states[0].times[0].ns, frame(30).begin - 1000);
        const auto table = counterTable(e_->recording, figures);
        QCOMPARE(table->value(0, kCounterName), TableValue("stage"));
        QCOMPARE(table->value(0, kCounterNow), TableValue("Race"));
        QCOMPARE(table->countBelow(0), 2u);
        QVERIFY(table->columns()[kCounterLateBeyond].empty);  // there is no threshold
        QVERIFY(counterFigures(r, nullptr, TimeRange{5, 6}, -5)->states[0].now.empty());
        // Real numbers are sorted as such, and written for people and for programs.
        const TableColumn column{"now", "Now", Quantity::Number, ""};
        QCOMPARE(valueText(column, TableValue(0.5)), std::string("0.5"));
        QCOMPARE(valueText(column, TableValue(-1234567.0)), "−" + countText(1'234'567));
    }

    void theTableSaysItInColumns() {
        const Recording& r = *e_->recording;
        const auto late = UsualMarkers(e_).of(chosen(Of::Late)->scope);
        const auto leaves = markerTable(e_->recording, nullptr, groupedMarkers(r, late, MarkersBy::Leaves));
        Table::Row work = Table::kTop;
        for (Table::Row row = 0; row < leaves->rowLimit(); ++row)
            if (leaves->parentOf(row) == Table::kTop && leaves->value(row, kMarkerName) == TableValue("Work"))
                work = row;
        QVERIFY(work != Table::kTop);
        const auto number = [&](size_t column) { return std::get<int64_t>(leaves->value(work, column)); };
        QCOMPARE(number(kMarkerSelf), int64_t{80'000'000});
        QCOMPARE(number(kMarkerCalls), int64_t{4});
        QCOMPARE(number(kMarkerMean), int64_t{20'000'000});
        QCOMPARE(number(kMarkerOfFrame), int64_t{909});    // of 88 ms
        QCOMPARE(number(kMarkerOfBudget), int64_t{2000});  // of 40 ms
        QCOMPARE(valueText(leaves->columns()[kMarkerOfFrame], leaves->value(work, kMarkerOfFrame)),
                 std::string("90.9 %"));
        QVERIFY(leaves->emphasis(work, kMarkerExcess) == Emphasis::Excess);
        QVERIFY(leaves->columns()[kMarkerRan].empty && leaves->columns()[kMarkerAllocated].empty);
        QVERIFY(!leaves->columns()[kMarkerUsual].empty);
        QCOMPARE(leaves->countBelow(work), 1u);  // who called it
        QCOMPARE(leaves->value(leaves->rowBelow(work, 0), kMarkerName), TableValue("Frame"));
        QVERIFY(!leaves->place(work).marker.valid());  // of several stretches it leads to the marker, not to one of it
        QCOMPARE(leaves->place(work).site, siteNamed("Work"));
        // Without an explanation nothing is usual.
        const auto plain =
            markerTable(e_->recording, nullptr, groupedMarkers(r, nestedMarkers(r, wholeOf(r)), MarkersBy::Lane));
        QVERIFY(plain->columns()[kMarkerUsual].empty && plain->columns()[kMarkerExcess].empty);
        QCOMPARE(plain->value(0, kMarkerUsual), TableValue());
    }

    void whatRanAndWhatWasAllocatedStandsBesideIt() {
        TextRecording t;
        threadsAndCore(t);
        t.at(0, "core 0", onCore(100));
        t.begin(0, "main", "Load").begin(100, "main", "Read");
        t.at(150, "main", R"("do":"memory","address":16,"bytes":640)");
        t.at(200, "core 0", onCore(300));
        t.at(400, "core 0", onCore(100));
        t.end(500, "main");
        t.at(550, "main", R"("do":"memory","address":32,"bytes":1000)");
        t.end(600, "main");
        const auto r = t.open();
        const auto made = nestedMarkers(*r, wholeOf(*r));
        addRanAndAllocated(*r, *made);
        const auto row = [&](const char* path) {
            return *std::find_if(made->rows.begin(), made->rows.end(),
                                 [&](const NestedMarker& one) { return one.path && pathOf(*r, one.path) == path; });
        };
        QCOMPARE(row("Load").total, int64_t{600'000});
        QCOMPARE(row("Load").ran, int64_t{400'000});
        QCOMPARE(row("Load/Read").ran, int64_t{200'000});
        QCOMPARE(row("Load").allocations, uint64_t{2});
        QCOMPARE(row("Load").allocated, uint64_t{1640});
        QCOMPARE(row("Load/Read").allocated, uint64_t{640});
        const auto table = markerTable(r, nullptr, groupedMarkers(*r, made, MarkersBy::Marker));
        QVERIFY(!table->columns()[kMarkerRan].empty && !table->columns()[kMarkerAllocated].empty);
        QCOMPARE(valueText(table->columns()[kMarkerAllocated], TableValue(int64_t{41'300})), std::string("41.3 kB"));
    }

    uint32_t siteNamed(const std::string& name) const {
        for (uint32_t i = 0; i < e_->recording->sites.size(); ++i)
            if (e_->recording->sites[i].name == name) return i;
        return kNone;
    }
};

QTEST_APPLESS_MAIN(ScopeTest)
#include "scope_test.moc"
