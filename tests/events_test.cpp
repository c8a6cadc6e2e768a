// SPDX-License-Identifier: GPL-3.0-or-later
//
// Events in order of time: against a list that is gathered and sorted slowly, of random recordings and of the demo.
#include <QtTest>
#include <random>
#include <sstream>

#include "core/ask/event_table.h"
#include "core/model/open_recording.h"
#include "core/table/letters.h"
#include "core/table/writing.h"
#include "testing/explaining.h"
#include "testing/making.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

using What = EventWhat;

/// All events that lie in a scope and fit, as they come to hand.
class Slow {
public:
    Slow(const Recording& recording, const Scope& scope, const EventFilter& filter)
        : r_(recording), scope_(scope), filter_(filter), words_(filter.words) {
        for (uint32_t l = 0; l < r_.lanes.size(); ++l) addLane(l);
        addRest();
        std::stable_sort(all_.begin(), all_.end(), [](const auto& a, const auto& b) { return a.time < b.time; });
    }
    std::vector<ListedEvent> all_;

private:
    bool named(const std::string& text) const { return filter_.words.empty() || words_.in(text); }
    bool site(const Site& site) const {
        return (filter_.category.empty() || site.category == filter_.category) &&
               (named(site.name) || named(site.category) || named(site.file));
    }
    void add(bool fits, int64_t time, What what, uint32_t lane, uint32_t index, uint32_t of = 0) {
        const bool inLane = lane == kNone ? scope_.lanes.empty() : scope_.has(lane);
        if (fits && inLane && scope_.contains(time) && filter_.has(groupOf(what)))
            all_.push_back({time, what, lane, {}, of, index});
    }
    bool inArguments(const MarkerRef& marker) const {
        if (filter_.words.empty()) return false;
        ArgumentLetters letters(r_, filter_.words);
        const auto [from, to] = r_.lanes[marker.lane].argumentsOf(marker.row, marker.index);
        return std::any_of(from, to, [&](const Argument& argument) { return letters.fits(argument); });
    }
    void addLane(uint32_t l) {
        const Lane& lane = r_.lanes[l];
        std::set<PathId> waits;
        for (const Wait& wait : lane.waits) waits.insert(r_.pathOf({l, wait.row, wait.index}));
        const bool markers = filter_.has(EventGroup::Marker), waiting = filter_.has(EventGroup::Wait);
        for (uint32_t row = 0; row < lane.rows.size(); ++row)
            for (uint32_t i = 0; i < lane.rows[row].size() && (markers || waiting); ++i) {
                const MarkerRef marker{l, row, i};
                const PathId path = r_.pathOf(marker);
                const bool wait = lane.rows[row].flags(i) & kMarkerWait,
                           kind = markers && waiting ? true : waits.contains(path) == waiting;
                const Site& of = r_.siteOf(path);
                if (!scope_.has(l) || !kind || !(filter_.category.empty() || of.category == filter_.category) ||
                    !(site(of) || inArguments(marker)))
                    continue;
                const int64_t begin = lane.rows[row].begin(i), end = lane.rows[row].end(i);
                if (scope_.contains(begin))
                    all_.push_back(
                        {begin, wait ? What::WaitBegins : What::MarkerBegins, l, marker, 0, i, begin == end});
                if (scope_.contains(end))
                    all_.push_back({end, wait ? What::WaitEnds : What::MarkerEnds, l, marker, 0, i, begin == end});
            }
        const bool any = filter_.category.empty();
        for (uint32_t i = 0; i < lane.linkIns.size(); ++i)
            add(any && (filter_.words.empty() || site(r_.siteOf(lane.linkIns[i].path))), lane.linkIns[i].time,
                lane.linkIns[i].endsWait ? What::WaitReleased : What::WorkBegins, l, i);
        for (uint32_t i = 0; i < lane.lost.size(); ++i)
            add(any && filter_.words.empty(), lane.lost[i].time, What::EventsLost, l, i);
    }
    void addRest() {
        const bool any = filter_.category.empty(), plain = any && filter_.words.empty();
        for (uint32_t s = 0; s < r_.series.size(); ++s)
            for (uint32_t i = 0; i < r_.series[s].frames.size(); ++i) {
                const Frame& frame = r_.series[s].frames[i];
                add(any && named(r_.series[s].name), frame.begin, What::FrameBegins, frame.lane, i, s);
                add(any && named(r_.series[s].name), frame.end, What::FrameEnds, frame.lane, i, s);
            }
        for (uint32_t s = 0; s < r_.states.size(); ++s)
            for (uint32_t i = 0; i < r_.states[s].spans.size(); ++i) {
                const StateSpan& span = r_.states[s].spans[i];
                add(any && (named(r_.states[s].name) || named(std::string(r_.text(span.value)))), span.begin,
                    What::StateBegins, kNone, i, s);
            }
        for (uint32_t i = 0; i < r_.linkSources.size(); ++i)
            add(plain || (any && site(r_.siteOf(r_.linkSources[i].path))), r_.linkSources[i].time, What::LinkGiven,
                r_.linkSources[i].lane, i);
        for (uint32_t i = 0; i < r_.points.size(); ++i)
            add(any && (r_.points[i].input || r_.points[i].severity >= filter_.least) &&
                    named(std::string(r_.text(r_.points[i].text))),
                r_.points[i].time, r_.points[i].input ? What::Input : What::Point, r_.points[i].lane, i);
        for (uint32_t i = 0; i < r_.operations.size(); ++i) {
            const Operation& one = r_.operations[i];
            const bool fits = site(r_.sites[one.site]) || (any && words_.in(r_.text(one.text)));
            add(fits, one.begin, What::OperationBegins, one.beganOn, i);
            add(fits && one.endedOn != kNone, one.end, What::OperationEnds, one.endedOn, i);
        }
        for (uint32_t i = 0; i < r_.operationSteps.size(); ++i)
            add(site(r_.sites[r_.operationSteps[i].site]), r_.operationSteps[i].time, What::OperationStep,
                r_.operationSteps[i].lane, i);
        for (uint32_t c = 0; c < r_.counters.size(); ++c)
            for (uint32_t i = 0; i < r_.counters[c].times.size(); ++i)
                add(any && named(r_.counters[c].name), r_.counters[c].times[i], What::Counter, kNone, i, c);
        for (uint32_t i = 0; i < r_.allocations.size(); ++i) {
            const Allocation& one = r_.allocations[i];
            const bool fits = plain || (any && (named(std::string(r_.text(one.name))) || site(r_.siteOf(one.path)) ||
                                                named(r_.pools[one.pool].name)));
            add(fits, one.taken, What::MemoryTaken, one.lane, i, one.pool);
            add(fits && one.isReleased(), one.released, What::MemoryReleased, one.lane, i, one.pool);
        }
        for (uint32_t i = 0; i < r_.pictures.size(); ++i) add(plain, r_.pictures[i].time, What::Picture, kNone, i);
    }

    const Recording& r_;
    const Scope& scope_;
    const EventFilter& filter_;
    const Letters words_;
};

using Key = std::tuple<int64_t, What, uint32_t, uint32_t, uint32_t, uint32_t>;
Key keyOf(const ListedEvent& e) { return {e.time, e.what, e.lane, e.marker.row, e.of, e.index}; }
std::vector<Key> sortedKeys(const std::vector<ListedEvent>& events) {
    std::vector<Key> keys;
    for (const ListedEvent& event : events) keys.push_back(keyOf(event));
    std::sort(keys.begin(), keys.end());
    return keys;
}

/// An empty string, or what is not as it should be.
std::string differs(const std::shared_ptr<const Recording>& r, const Scope& scope, const EventFilter& filter,
                    std::mt19937& random) {
    const auto list = EventList::of(r, scope, filter);
    const std::vector<ListedEvent> slow = Slow(*r, scope, filter).all_;
    if (list->size() != slow.size())
        return "there are " + std::to_string(slow.size()) + ", not " + std::to_string(list->size());
    const std::vector<ListedEvent> all = list->read(0, slow.size() + 10);
    const auto a = sortedKeys(all), b = sortedKeys(slow);
    for (size_t i = 0; i < a.size(); ++i)
        if (a[i] != b[i]) {
            const auto text = [](const Key& key) {
                const auto [time, what, lane, row, of, index] = key;
                return std::to_string(time) + " " + textOf(what) + " " + std::to_string(lane) + " " +
                       std::to_string(row) + " " + std::to_string(of) + " " + std::to_string(index);
            };
            return text(a[i]) + " in the place of " + text(b[i]);
        }
    std::map<std::tuple<uint32_t, uint32_t, uint32_t>, bool> open;
    for (size_t i = 0; i < all.size(); ++i) {
        if (i && all[i - 1].time > all[i].time) return "not in order of time";
        if (!all[i].marker.valid()) continue;
        const std::tuple marker(all[i].marker.lane, all[i].marker.row, all[i].marker.index);
        const bool begins = all[i].what == What::MarkerBegins || all[i].what == What::WaitBegins;
        if (begins)
            open[marker] = true;
        else if (!open.contains(marker) && scope.stretches.size() == 1 &&
                 scope.contains(r->lanes[all[i].lane].rows[all[i].marker.row].begin(all[i].marker.index)))
            return "an end before its begin";
    }
    for (int k = 0; k < 40 && !all.empty(); ++k) {
        const size_t first = random() % all.size(), count = random() % 300;
        const auto part = list->read(first, count);
        if (part.size() != std::min(count, all.size() - first)) return "a window of another size";
        if (!std::equal(part.begin(), part.end(), all.begin() + static_cast<std::ptrdiff_t>(first)))
            return "another window at " + std::to_string(first);
        const int64_t time = all[first].time + int64_t(random() % 3) - 1;
        const auto place = static_cast<uint64_t>(
            std::count_if(all.begin(), all.end(), [&](const ListedEvent& e) { return e.time < time; }));
        if (list->placeOf(time) != place) return "another place of " + std::to_string(time);
    }
    for (uint32_t l = 0; l < r->lanes.size(); ++l) {
        std::vector<ListedEvent> last;
        for (const ListedEvent& event : all)
            if (event.lane == l) last.push_back(event);
        last.erase(last.begin(), last.end() - static_cast<std::ptrdiff_t>(std::min<size_t>(last.size(), 7)));
        if (list->lastOf(l, 7) != last) return "other last ones of " + r->lanes[l].name;
    }
    return {};
}

}  // namespace

class EventsTest : public QObject {
    Q_OBJECT

    static std::vector<EventFilter> filters(const Recording& r) {
        std::vector<EventFilter> all(1);
        for (size_t kind = 0; kind < kEventGroups; ++kind) {
            all.emplace_back();
            all.back().kinds = 1u << kind;
        }
        EventFilter words;
        words.words = "a";
        all.push_back(words);
        words.words = "=1";
        all.push_back(words);
        words.words = r.sites.empty() ? "x" : r.sites[r.sites.size() / 2].name;
        all.push_back(words);
        EventFilter severe;
        severe.least = Severity::Warning;
        all.push_back(severe);
        EventFilter category;
        for (const Site& site : r.sites)
            if (!site.category.empty()) category.category = site.category;
        all.push_back(category);
        category.words = "a";
        category.kinds = 1u << size_t(EventGroup::Wait) | 1u << size_t(EventGroup::Operation);
        all.push_back(category);
        return all;
    }

private slots:
    void randomRecordingsAreListedAsSlowly() {
        std::mt19937 random(17);
        for (int round = 0; round < 6; ++round) {
            ModelBuilder builder;
            for (const ToldEvent& told : toldAtRandom(random, 2500)) builder.event(told.lane, told.event);
            const std::shared_ptr<const Recording> r = builder.finish();
            std::vector<Scope> scopes{wholeOf(*r)};
            std::vector<TimeRange> ranges;
            for (int i = 0; i < 5; ++i) {
                const int64_t at = r->begin + int64_t(random() % uint64_t(r->end - r->begin));
                ranges.push_back({at, at + (r->end - r->begin) / 15});
            }
            scopes.emplace_back(ranges);
            scopes.push_back(wholeOf(*r));
            scopes.back().keepOnly(*r, random() % r->lanes.size());
            for (const Scope& scope : scopes)
                for (const EventFilter& filter : filters(*r)) {
                    const std::string wrong = differs(r, scope, filter, random);
                    QVERIFY2(wrong.empty(), wrong.c_str());
                }
        }
    }

    void theDemoIsListedAsSlowly() {
        const auto opened = openRecording(FUGATO_DEMO_RECORDING);
        QVERIFY(opened.ok());
        std::mt19937 random(3);
        const Series& series = (*opened)->series[0];
        std::vector<TimeRange> frames;
        for (uint32_t f = 100; f < series.frames.size(); f += 700)
            frames.push_back({series.frames[f].begin, series.frames[f].end});
        for (const EventFilter& filter : filters(**opened)) {
            const std::string wrong = differs(*opened, Scope(frames), filter, random);
            QVERIFY2(wrong.empty(), wrong.c_str());
        }
        EventFilter words;
        words.words = "a";
        QVERIFY(!EventList::of(*opened, wholeOf(**opened), words, [](double) { return false; }));
        std::set<What> seen;
        for (const ListedEvent& event : EventList::of(*opened, wholeOf(**opened), {})->read(0, SIZE_MAX / 2))
            seen.insert(event.what);
        QCOMPARE(seen.size(), size_t(What::EventsLost));  // all but that
    }

    void whatHappenedIsToldInWords() {
        TextRecording t;
        t.frame(0, "main").begin(0, "main", "Update").argument(0, "main", "boats", "\"3\"");
        t.wait(100, "main", "Wait for sails", "sails", "job").begin(50, "worker", "Sew");
        t.linkOut(400, "worker", 5).end(450, "worker").waitEnd(500, "main", 5).end(800, "main");
        t.at(850, "main", R"("do":"point_code","severity":"warning","code":4,"text":"Sail torn")");
        t.at(855, "main", R"("do":"input","text":"key W down")");
        t.at(860, "main", R"("do":"count","counter":"wind","value":7.5)").frameEnd(900, "main");
        const auto r = t.open();
        std::ostringstream text;
        const EventTable table(EventList::of(r, wholeOf(*r), {}));
        writeText(table, text);
        const QString told = QString::fromStdString(text.str()).simplified();
        for (const char* one : {"main frame begins loop 0 900 µs", "main begins Update 800 µs boats = 3",
                                "main wait begins Wait for sails 400 µs for sails", "worker begins Sew",
                                "worker link given Sew ended the wait of main, in Update ▸ Wait for sails",
                                "main wait ends Wait for sails 400 µs ended by worker, in Sew",
                                "main ends Update 800 µs", "main point Sail torn warning, code 4",
                                "main input key W down", "counter wind 7.5", "main frame ends loop 0 900 µs"})
            QVERIFY2(told.contains(one), qPrintable(one + (" in " + told)));
        QVERIFY(told.indexOf("ends Update") < told.indexOf("Sail torn"));
    }

    void aLinkThatIsGivenOutTellsWhereItLeads() {
        TextRecording t;
        t.begin(0, "main", "Update")
            .linkOut(10, "main", 1)
            .linkOut(20, "main", 2)
            .linkOut(30, "main", 3)
            .end(40, "main");
        t.begin(50, "sewer", "Sew").linkIn(51, "sewer", 1).end(60, "sewer");
        t.begin(45, "rigger", "Rig").linkIn(46, "rigger", 1).end(60, "rigger").linkIn(70, "rigger", 2);
        const auto r = t.open();
        EventFilter links;
        links.kinds = 1u << size_t(EventGroup::Link);
        const auto list = EventList::of(r, wholeOf(*r), links);
        const EventTable table(list);
        const auto last = lastEventTable(list, 3);
        const std::vector<std::string> wanted{"asked for work of rigger, in Rig and 1 more", "asked for work of rigger",
                                              ""};
        for (uint32_t i = 0; i < 3; ++i) {
            const TableValue value = table.value(i, kEventDetails);
            QCOMPARE(value.index() ? std::get<std::string>(value) : std::string(), wanted[i]);
        }
        std::set<std::string> said;
        for (Table::Row row = 0; row < last->rowLimit(); ++row)
            if (const auto value = last->value(row, kEventDetails); value.index())
                said.insert(std::get<std::string>(value));
        QVERIFY(said.contains(wanted[0]) && said.contains(wanted[1]));
    }

    void makingAListTellsHowFarItIs() {
        const auto opened = openRecording(FUGATO_DEMO_RECORDING);
        QVERIFY(opened.ok());
        EventFilter words;
        words.words = "a";
        double last = 0;
        int told = 0;
        const auto list = EventList::of(*opened, wholeOf(**opened), words, [&](double part) {
            const bool ascends = part >= last && part <= 1;
            last = part;
            told += part > 0;
            return ascends;
        });
        QVERIFY(list && told > 2);
    }

    void aListThatIsNotTooLongIsSortedByAnyColumn() {
        std::mt19937 random(53);
        ModelBuilder builder;
        defineTold(builder);
        for (const ToldEvent& told : toldAtRandom(random, 4000)) builder.event(told.lane, told.event);
        const std::shared_ptr<const Recording> r = builder.finish();
        const auto table = std::make_shared<const EventTable>(EventList::of(r, wholeOf(*r), {}));
        for (size_t column = 0; column < table->columns().size(); ++column)
            for (const bool descending : {false, true}) {
                const auto sorted = table->sorted(column, descending, {});
                QVERIFY(sorted->ordered());
                QCOMPARE(sorted->rowLimit(), table->rowLimit());
                const auto window = sorted->window(100, 1000);
                std::set<uint64_t> keys;
                for (Table::Row row = 0; row < sorted->rowLimit(); ++row) {
                    keys.insert(sorted->keyOf(row));
                    if (row >= 100 && row < 1100)
                        QVERIFY(window->value(row - 100, column) == sorted->value(row, column));
                    if (!row) continue;
                    const TableValue before = sorted->value(row - 1, column), here = sorted->value(row, column);
                    const auto none = [](const TableValue& value) {
                        const auto* text = std::get_if<std::string>(&value);
                        return !value.index() || (text && text->empty());
                    };
                    if (none(here)) continue;  // those without a value come last
                    QVERIFY(!none(before));
                    if (const auto* text = std::get_if<std::string>(&here)) {
                        const std::string a = lowered(std::get<std::string>(before)), b = lowered(*text);
                        QVERIFY(descending ? a >= b : a <= b);
                    } else {
                        QVERIFY(descending ? before >= here : before <= here);
                    }
                }
                QCOMPARE(keys.size(), size_t(table->rowLimit()));  // all of them
                const auto back = sorted->sorted(kEventTime, false, {});
                QVERIFY(back->value(7, kEventName) == table->value(7, kEventName));
            }
        QVERIFY(!table->sorted(kEventName, false, [](double) { return false; }));
    }

    void windowsAreTheSameRows() {
        const auto r = explained(TextRecording()
                                     .frame(0, "main")
                                     .mark(1, 5, "main", "A")
                                     .mark(5, 5, "main", "B")
                                     .frameEnd(9, "main")
                                     .open(),
                                 1'000'000)
                           ->recording;
        const EventTable whole(EventList::of(r, wholeOf(*r), {}));
        QVERIFY(whole.ordered());
        QCOMPARE(whole.rowLimit(), 6u);
        const auto window = whole.window(2, 3);
        QCOMPARE(window->rowLimit(), 3u);
        for (Table::Row row = 0; row < 3; ++row) {
            for (Table::Row other = 0; other < row; ++other) QVERIFY(window->keyOf(other) != window->keyOf(row));
            for (size_t c = 0; c < whole.columns().size(); ++c)
                QVERIFY(window->value(row, c) == whole.value(row + 2, c));
            QVERIFY(window->place(row).marker == whole.place(row + 2).marker);
        }
        // B has no length: it begins, then ends.
        QCOMPARE(std::get<std::string>(whole.value(3, kEventWhat)), std::string("begins"));
        QCOMPARE(std::get<std::string>(whole.value(4, kEventWhat)), std::string("ends"));
        QCOMPARE(EventTable(EventList::of(r, Scope(), {})).rowLimit(), 0u);
    }
};

QTEST_APPLESS_MAIN(EventsTest)
#include "events_test.moc"
