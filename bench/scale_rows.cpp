// SPDX-License-Identifier: GPL-3.0-or-later
//
// What grows with the recording, at a million, ten million and a hundred million markers, each figure
// beside its limit or its alternative taken in the same run.
#include <sqlite3.h>

#include <QApplication>
#include <QDir>
#include <QElapsedTimer>
#include <QFile>
#include <QFileInfo>
#include <QSignalSpy>
#include <QTemporaryDir>
#include <atomic>
#include <cstdio>
#include <cstring>
#include <functional>
#include <map>
#include <random>
#include <thread>

#include "app/drawer/flame_graph.h"
#include "core/ask/connections.h"
#include "core/ask/coverage.h"
#include "core/ask/event_list.h"
#include "core/ask/instant_table.h"
#include "core/ask/marker_groupings.h"
#include "core/ask/marker_statistics.h"
#include "core/ask/memory_figures.h"
#include "core/ask/occurrence_list.h"
#include "core/ask/scope_choice.h"
#include "core/ask/search.h"
#include "core/ask/stacks.h"
#include "core/ask/usual_markers.h"
#include "core/ask/waits.h"
#include "core/explain/causes/growing.h"
#include "core/explain/walk/critical_path_sums.h"
#include "core/symbols/symbols.h"
#include "format/binary_reader.h"
#include "rows.h"
#include "windows.h"

namespace measure {

namespace {

using namespace fugato;

struct Figures {
    uint64_t markers = 0;
    std::map<std::string, double> of;
};

/// How long reading some rows takes anywhere in the list, in 99 of 100 cases at most.
double jump99(const EventList& events) {
    constexpr int kJumps = 300;
    constexpr size_t kRows = 1000;
    std::mt19937_64 random(5);
    std::vector<double> ms;
    for (int i = 0; i < kJumps; ++i) {
        const uint64_t first = random() % events.size();
        QElapsedTimer timer;
        timer.start();
        (void)events.read(first, kRows);
        ms.push_back(static_cast<double>(timer.nsecsElapsed()) * 1e-6);
    }
    std::sort(ms.begin(), ms.end());
    return ms[ms.size() * 99 / 100];
}

/// Decoding every event on all cores, and one pass over memory as large as the index: the least that
/// indexing could cost.
double floorMs(const std::string& file, uint64_t indexBytes) {
    struct Names final : EventSink {
        void started(int64_t) override {}
        void define(const Definition&) override {}
        void event(uint32_t, const Event&) override {}
    } names;
    struct Nothing final : LaneSink {
        uint64_t sum = 0;
        void events(std::span<const Event> events) override {
            for (const Event& event : events) sum += static_cast<uint64_t>(event.time);
        }
    };
    auto source = openFile(file);
    QElapsedTimer timer;
    timer.start();
    auto reader = BinaryReader::open(**source, file, names);
    std::atomic<size_t> next{0};
    const auto work = [&] {
        for (size_t at; (at = next++) < (*reader)->lanes().size();) {
            Nothing nothing;
            Damage damage;
            (*reader)->readLane((*reader)->lanes()[at], nothing, damage);
        }
    };
    std::vector<std::thread> helpers;
    for (unsigned i = 1; i < std::max(1u, std::thread::hardware_concurrency()); ++i) helpers.emplace_back(work);
    work();
    for (std::thread& helper : helpers) helper.join();
    std::vector<char> memory(indexBytes, 1);
    uint64_t sum = 0;
    for (size_t i = 0; i < memory.size(); i += 64) sum += static_cast<uint64_t>(memory[i]);
    return msOf(timer) + (sum == 1 ? 1e-9 : 0);
}

/// Moving so many bytes in memory; ms. What reading a file and writing its index could cost at the very least.
double copyMs(uint64_t bytes) {
    constexpr size_t kPiece = 64 << 20;  // more than any cache holds
    const std::vector<char> from(kPiece, 1);
    std::vector<char> to(kPiece);
    double best = 1e18;
    for (int i = 0; i < 4; ++i) {
        QElapsedTimer timer;
        timer.start();
        std::memcpy(to.data(), from.data(), kPiece);
        best = std::min(best, msOf(timer));
    }
    return best * static_cast<double>(bytes) / kPiece + (to[kPiece / 2] == 2 ? 1e-9 : 0);
}

/// Groups the same rows by marker in SQLite; ms.
double sqliteMs(const Recording& r, const std::string& file) {
    sqlite3* database = nullptr;
    if (sqlite3_open(file.c_str(), &database) != SQLITE_OK) return 0;
    const auto run = [&](const char* words) {
        return sqlite3_exec(database, words, nullptr, nullptr, nullptr) == SQLITE_OK;
    };
    run("pragma journal_mode=off; pragma synchronous=off; create table markers(name integer, lane integer, begin "
        "integer, duration integer); begin");
    sqlite3_stmt* insert = nullptr;
    sqlite3_prepare_v2(database, "insert into markers values(?,?,?,?)", -1, &insert, nullptr);
    for (uint32_t lane = 0; lane < r.lanes.size(); ++lane)
        for (const MarkerRow& row : r.lanes[lane].rows)
            row.forEach(0, row.size(), [&](uint32_t, int64_t begin, int64_t duration, uint32_t path, uint8_t) {
                sqlite3_bind_int64(insert, 1, r.paths[row.pathOf(path)].site);
                sqlite3_bind_int64(insert, 2, lane);
                sqlite3_bind_int64(insert, 3, begin);
                sqlite3_bind_int64(insert, 4, duration);
                sqlite3_step(insert);
                sqlite3_reset(insert);
            });
    sqlite3_finalize(insert);
    run("commit");
    QElapsedTimer timer;
    timer.start();
    run("select name, count(*), sum(duration), max(duration) from markers group by name");
    const double ms = msOf(timer);
    sqlite3_close(database);
    return ms;
}

template <class Ask>
double quickest(Ask&& ask) {
    double best = 1e18;
    for (int i = 0; i < 3; ++i) {
        QElapsedTimer timer;
        timer.start();
        ask();
        best = std::min(best, msOf(timer));
    }
    return best;
}

/// How long it takes to find what a marker is connected with, of markers anywhere: so long or less in 99 of 100.
double connections99(const Recording& recording) {
    constexpr size_t kTimes = 200;
    std::mt19937_64 random(3);
    std::vector<double> times;
    while (times.size() < kTimes) {
        const auto lane = static_cast<uint32_t>(random() % recording.lanes.size());
        const auto& rows = recording.lanes[lane].rows;
        if (rows.empty()) continue;
        const auto row = static_cast<uint32_t>(random() % rows.size());
        if (rows[row].empty()) continue;
        const MarkerRef marker{lane, row, static_cast<uint32_t>(random() % rows[row].size())};
        times.push_back(quickest([&] { (void)connectionsOf(recording, marker); }));
    }
    std::sort(times.begin(), times.end());
    return times[kTimes * 99 / 100];
}

/// What it takes to explain frames further that come one by one, the 95th percentile; ms.
double furtherMs(const Recording& recording, const Explanation& whole) {
    const Column<Frame> all = recording.series[whole.series].frames;
    const auto upTo = [&](size_t frames) {
        auto part = std::make_shared<Recording>(recording);
        part->series[whole.series].frames = Column<Frame>(all.data(), frames);
        part->fileState = 0;
        return part;
    };
    constexpr size_t kMore = 100;
    const auto shorter = upTo(all.size() - kMore);
    auto e = explain(shorter, sumCriticalPaths(*shorter, whole.series), 0);
    std::vector<std::shared_ptr<Recording>> grown;
    for (size_t more = 1; more <= kMore; ++more) grown.push_back(upTo(all.size() - kMore + more));
    std::vector<double> times;
    for (const auto& now : grown) {
        QElapsedTimer timer;
        timer.start();
        e = explainIncrementally(now, *e);
        times.push_back(msOf(timer));
    }
    std::sort(times.begin(), times.end());
    return times[times.size() * 95 / 100];
}

uint32_t siteNamed(const Recording& r, const char* name) {
    for (uint32_t i = 0; i < r.sites.size(); ++i)
        if (r.sites[i].name == name) return i;
    return 0;
}

/// As many frames with ten switches and a hundred call stacks each: adding up, causes and functions.
double explainingWithSystemMs(uint64_t markers, Figures& figures) {
    const QTemporaryDir folder;
    const std::string file = folder.filePath("system.fugato").toStdString();
    if (!sail({"--scale", std::to_string(markers), "--scale-system", "--overwrite", "--out", file})) return 0;
    OpenOptions options;
    options.indexFolder = folder.filePath("indexes").toStdString();
    options.indexFromBytes = 0;
    const auto opened = openRecording(file, {}, options);
    if (!opened) return 0;
    const Recording& r = **opened;
    const auto symbols = symbolsOf(r, options.indexFolder);
    figures.of["samples"] = static_cast<double>(r.samples.size());
    double switches = 0;
    for (const Lane& lane : r.lanes) switches += static_cast<double>(lane.coreSpans.size());
    figures.of["switches"] = switches;
    const StackScope everything{wholeOf(r), false};
    figures.of["stacks"] = quickest([&] { (void)stacksIn(r, symbols, everything); });
    const auto stacks = stacksIn(r, symbols, everything);
    figures.of["flames"] = quickest([&] {
        const auto turned = std::make_shared<const StackTree>(stacks->tree.fromInnermost());
        for (const bool inward : {true, false}) {
            FlameGraph graph;
            graph.resize(1280, 400);
            graph.setStacks(stacks, inward ? std::shared_ptr<const StackTree>(stacks, &stacks->tree) : turned);
            (void)graph.grab();
        }
    });
    return quickest([&] {
        QFile::remove(QString::fromStdString(r.storage->path()).replace(".index", ".frames0"));
        (void)explain(*opened, sumCriticalPaths(r, 0), {0, symbols});
    });
}

/// Opening for the first time as the application does it (a small one without an index), beside what it could cost at
/// least. What is quick is opened several times, and the quickest of each counts; but the first picture and what holds
/// the interface thread are those of the first time.
void measureFirstOpening(const std::string& file, const OpenOptions& options, Figures& figures) {
    constexpr double kQuickMs = 2000;
    constexpr int kTurns = 5;
    const auto size = static_cast<double>(QFileInfo(QString::fromStdString(file)).size());
    const auto least = [&](const char* key, double ms) {
        const auto [at, isNew] = figures.of.emplace(key, ms);
        if (!isNew) at->second = std::min(at->second, ms);
    };
    for (int turn = 0; turn < kTurns; ++turn) {
        QDir(QString::fromStdString(options.indexFolder)).removeRecursively();
        const Opened first = openWindow(file, options);
        const Recording& recording = *first.window->document().recording();
        const double index = static_cast<double>(recording.storage->size());
        figures.markers = recording.markerCount();
        figures.of.emplace("first picture", first.firstPicture);
        figures.of.emplace("block first", first.block);
        least("read", first.read);
        least("explained", first.explained);
        least("floor", floorMs(file, static_cast<uint64_t>(index)));
        figures.of["file bytes"] = size / static_cast<double>(figures.markers);
        figures.of["index bytes"] = index / static_cast<double>(figures.markers);
        if (turn == 0) figures.of["copy"] = copyMs(static_cast<uint64_t>(size + index));
        if (first.explained > kQuickMs) break;
    }
}

void measureAsking(const std::shared_ptr<const Recording>& recording,
                   const std::shared_ptr<const Explanation>& explanation, Figures& figures) {
    const TimeRange whole = wholeOf(*recording);
    const TimeRange part{whole.begin + (whole.end - whole.begin) / 4, whole.begin + (whole.end - whole.begin) / 2};
    const uint32_t often = siteNamed(*recording, "Splash drop"), usual = siteNamed(*recording, "Race frame");
    figures.of["statistics often"] = quickest([&] { (void)statisticsOf(*recording, often, whole, 0); });
    figures.of["statistics usual"] = quickest([&] { (void)statisticsOf(*recording, usual, whole, 0); });
    figures.of["table whole"] = quickest([&] { (void)nestedMarkers(*recording, whole); });
    figures.of["table part"] = quickest([&] { (void)nestedMarkers(*recording, part); });
    figures.of["leaves"] = quickest([&] {  // beside what is usual, which is worked out anew
        (void)groupedMarkers(*recording, UsualMarkers(explanation).of(whole), MarkersBy::Leaves);
    });
    ScopeChoice late;
    late.of = ScopeChoice::Of::Late;
    if (const auto chosen = chosenScope(*recording, explanation.get(), late, {}))
        figures.of["late"] = quickest(
            [&] { (void)groupedMarkers(*recording, UsualMarkers(explanation).of(chosen->scope), MarkersBy::Lane); });
    figures.of["waits"] = quickest([&] { (void)waitsIn(*recording, whole, WaitsBy::Object); });
    const auto events = EventList::of(recording, whole, {});
    figures.of["events"] = quickest([&] { (void)EventList::of(recording, whole, {}); });
    figures.of["events filtered"] = quickest([&] {
        EventFilter named;
        named.words = "reef";
        (void)EventList::of(recording, whole, named);
    });
    figures.of["events jump"] = jump99(*events);
    figures.of["memory figures"] = quickest([&] { (void)memoryFigures(*recording, whole, recording->begin); });
    figures.of["coverage"] = quickest([&] { (void)coverageOf(*recording, whole); });
    figures.of["connections"] = connections99(*recording);
    figures.of["instant"] =
        quickest([&] { (void)instantTable(recording, recording->begin + (recording->end - recording->begin) / 2); });
    figures.of["longest"] = quickest([&] { (void)longestOccurrences(*recording, often, whole, 1000); });
    figures.of["occurrences"] = quickest(
        [&] { (void)OccurrenceList::of(recording, often, whole, OccurrenceOrder::Duration, true)->read(0, 4096); });
    const auto occurrences = OccurrenceList::of(recording, often, whole, OccurrenceOrder::Duration, true);
    figures.of["occurrences jump"] = quickest([&] { (void)occurrences->read(occurrences->size() / 3, 4096); });
    figures.of["search"] = quickest([&] { (void)search(*recording, "skerries"); });
}

Figures measureAt(uint64_t markers) {
    Figures figures;
    const QTemporaryDir folder;
    const std::string file = folder.filePath("scale.fugato").toStdString();
    if (!sail({"--scale", std::to_string(markers), "--overwrite", "--out", file})) return figures;
    OpenOptions options;
    options.indexFolder = folder.filePath("indexes").toStdString();
    watched().longestOwn();
    measureFirstOpening(file, options, figures);
    options.indexFromBytes = 0;  // from here on at every size the same way
    if (QDir(QString::fromStdString(options.indexFolder)).isEmpty()) openWindow(file, options);
    Opened again = openWindow(file, options);
    figures.of["second picture"] = again.firstPicture;
    figures.of["second explained"] = again.explained;
    const auto recording = again.window->document().recording();
    figures.of["block opening"] = again.block;
    again.window->selection().chooseSite(siteNamed(*recording, "Splash drop"));
    figures.of["block"] = useEveryPanel(*again.window, "reef");
    figures.of["own"] = watched().longestOwn();
    figures.of["memory"] = static_cast<double>(Storage::residentBytes()) / 1e9;
    figures.of["repaint"] = repaint99(*again.window);

    std::shared_ptr<const Explanation> explanation;
    figures.of["explaining"] = quickest([&] {  // without what is kept of the first time
        QFile::remove(QString::fromStdString(recording->storage->path()).replace(".index", ".frames0"));
        explanation.reset();
        explanation = explain(recording, sumCriticalPaths(*recording, 0), 0);
    });
    figures.of["frames"] = static_cast<double>(explanation->frames.size());
    figures.of["further"] = furtherMs(*recording, *explanation);
    figures.of["explaining with system"] = explainingWithSystemMs(markers, figures);
    measureAsking(recording, explanation, figures);
    figures.of["sqlite"] = sqliteMs(*recording, folder.filePath("rows.sqlite").toStdString());
    return figures;
}

/// The table that is printed: a row for each figure, a column for each size.
class ScaleTable {
public:
    explicit ScaleTable(std::vector<Figures> sizes) : sizes_(std::move(sizes)) {
        std::string head = "| what |", rule = "|---|";
        for (const Figures& size : sizes_) {
            head += " " + number("%.0f million", static_cast<double>(size.markers) / 1e6) + " |";
            rule += "---|";
        }
        std::printf("%s goal | met |\n%s---|---|\n", head.c_str(), rule.c_str());
    }
    bool allMet() const { return all_; }
    const Figures& least() const { return sizes_.front(); }

    /// A figure in milliseconds; whether the largest size meets the goal. A limit of 0: no goal is set.
    void ms(const char* what, const char* key, double limit, const char* form = "%.1f ms") {
        row(
            what, [&](const Figures& f) { return number(form, of(f, key)); },
            limit > 0 ? number("%.0f ms", limit) : "none set",
            limit > 0 ? std::optional(of(sizes_.back(), key) <= limit) : std::nullopt);
    }
    void row(const char* what, const std::function<std::string(const Figures&)>& figure, const std::string& goal,
             std::optional<bool> met) {
        std::printf("| %s |", what);
        for (const Figures& size : sizes_) std::printf(" %s |", figure(size).c_str());
        std::printf(" %s | %s |\n", goal.c_str(), !met ? "–" : *met ? "yes" : "**no**");
        all_ &= met.value_or(true);
    }
    /// A ratio, which has its goal at every size.
    void ratio(const char* what, const char* form, const std::function<double(const Figures&)>& ratio, double limit,
               const char* goal) {
        row(
            what, [&](const Figures& f) { return number(form, ratio(f)); }, goal,
            std::all_of(sizes_.begin(), sizes_.end(), [&](const Figures& f) { return ratio(f) <= limit; }));
    }
    static double of(const Figures& figures, const char* key) {
        const auto at = figures.of.find(key);
        return at == figures.of.end() ? 0 : at->second;
    }
    const Figures& most() const { return sizes_.back(); }

private:
    std::vector<Figures> sizes_;
    bool all_ = true;
};

void openingRows(ScaleTable& table) {
    const auto of = ScaleTable::of;
    table.ms("opening for the first time: first picture", "first picture", 1000, "%.0f ms");
    table.ms("… every lane read and indexed", "read", 0, "%.0f ms");
    table.ratio(
        "… ÷ decoding all events and one pass over memory", "%.2f",
        [=](const Figures& f) { return of(f, "read") / of(f, "floor"); }, 1.5, "at most 1.5");
    table.ratio(
        "… ÷ reading the file and writing its index at the speed of copying memory", "%.1f",
        [=](const Figures& f) { return of(f, "read") / of(f, "copy"); }, 4, "4 is wanted");
    table.ms("… costliest cause explained", "explained", 0, "%.0f ms");
    table.ms("opening again: first picture", "second picture", 1000, "%.0f ms");
    table.ms("… costliest cause explained", "second explained", 0, "%.0f ms");
    table.ms("longest block of the interface thread: opening for the first time", "block first", 16);
    table.ms("… opening again", "block opening", 16);
    table.ms("… while every panel is used by key and pointer", "block", 16);
    table.ms("… in all of these, without waiting for a core, a lock or a disk", "own", 16);
    const auto plain = [=](const char* key, const char* form) {
        return [=](const Figures& f) { return number(form, of(f, key)); };
    };
    table.row("bytes a marker, unpacked file", plain("file bytes", "%.1f"), "none set", {});
    table.row("bytes a marker, index", plain("index bytes", "%.1f"), "none set", {});
    table.row("memory after using every panel", plain("memory", "%.2f GB"), "1.5 GB",
              of(table.most(), "memory") <= 1.5);
}

void paintingAndExplainingRows(ScaleTable& table) {
    const auto of = ScaleTable::of;
    table.ms("painting: 99th percentile of a repaint of strip and lanes", "repaint", 8);
    table.ratio(
        "… ÷ at a million markers", "%.2f",
        [=, least = of(table.least(), "repaint")](const Figures& f) { return of(f, "repaint") / least; }, 1.2,
        "at most 1.2");
    table.row(
        "explaining every frame",
        [=](const Figures& f) {
            return number("%.0f ms", of(f, "explaining")) + number(" (%.0f frames)", of(f, "frames"));
        },
        "2 s", of(table.most(), "explaining") <= 2000);
    table.row(
        "… with what the system told: switches, call stacks and their functions",
        [=](const Figures& f) {
            return number("%.0f ms", of(f, "explaining with system")) + number(" (%.0f switches,", of(f, "switches")) +
                   number(" %.0f call stacks)", of(f, "samples"));
        },
        "4 s", of(table.most(), "explaining with system") <= 4000);
    table.ms("explaining further while it grows: 95th percentile of one new frame", "further", 5);
}

void askingRows(ScaleTable& table) {
    const auto of = ScaleTable::of;
    table.ms("asking: figures of one marker, a tenth of all markers", "statistics often", 100);
    table.ms("asking: figures of one marker, once a frame", "statistics usual", 100);
    table.ms("asking: table of the whole recording", "table whole", 100);
    table.ms("asking: table of a quarter of it", "table part", 100);
    table.ms("asking: from the leaves up, the whole recording beside what is usual", "leaves", 1000);
    table.ms("asking: nested, all late frames beside what is usual", "late", 1000);
    table.ms("asking: all events in order of time", "events", 1000);
    table.ms("asking: those that hold some letters", "events filtered", 1000);
    table.ms("asking: a window of events anywhere, 99th percentile", "events jump", 50);
    table.ms("asking: memory, the whole recording", "memory figures", 1000);
    table.ms("asking: stretches without a marker, the whole recording", "coverage", 0, "%.0f ms");
    table.ms("asking: what a marker is connected with, 99th percentile", "connections", 100);
    table.ms("asking: everything at one instant", "instant", 16, "%.2f ms");
    table.ms("asking: waits of the whole recording", "waits", 1000);
    table.ms("asking: the 1 000 longest occurrences of a tenth of all markers", "longest", 100);
    table.ms("asking: the first 4 096 of all of these, by length", "occurrences", 100);
    table.ms("asking: 4 096 of them from anywhere", "occurrences jump", 50);
    const auto flames = [=](const Figures& f) {
        return (of(f, "stacks") + of(f, "flames")) / std::max(1.0, of(f, "samples") / 1e6);
    };
    table.row(
        "asking: a flame graph from either end, by million call stacks",
        [=](const Figures& f) {
            return number("%.0f ms", flames(f)) + number(" (%.0f call stacks)", of(f, "samples"));
        },
        "300 ms", flames(table.most()) <= 300);
    table.ms("asking: search in names, arguments and points", "search", 100);
    table.row("the same rows grouped by marker in SQLite",
              [=](const Figures& f) { return number("%.0f ms", of(f, "sqlite")); }, "–", {});
    const auto quicker = [=](const Figures& f) { return of(f, "sqlite") / of(f, "table whole"); };
    table.row(
        "… ÷ table of the whole recording", [=](const Figures& f) { return number("%.0f", quicker(f)); },
        "at least 500", quicker(table.most()) >= 500);
}

}  // namespace

bool scaleRows(uint64_t most) {
    std::vector<Figures> sizes;
    for (uint64_t markers = 1'000'000; markers <= most; markers *= 10) {
        std::fprintf(stderr, "measuring at %llu markers…\n", static_cast<unsigned long long>(markers));
        sizes.push_back(measureAt(markers));
    }
    if (sizes.empty()) return false;
    ScaleTable table(std::move(sizes));
    openingRows(table);
    paintingAndExplainingRows(table);
    askingRows(table);
    return table.allMet();
}

}  // namespace measure
