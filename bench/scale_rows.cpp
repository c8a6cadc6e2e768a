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
        part->keptAt.clear();
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
        QFile::remove(QString::fromStdString(r.keptAt).replace(".index", ".frames0"));
        (void)explain(*opened, sumCriticalPaths(r, 0), {0, symbols});
    });
}

Figures measureAt(uint64_t markers, bool withSqlite) {
    Figures figures;
    const QTemporaryDir folder;
    const std::string file = folder.filePath("scale.fugato").toStdString();
    if (!sail({"--scale", std::to_string(markers), "--overwrite", "--out", file})) return figures;
    const auto size = static_cast<double>(QFileInfo(QString::fromStdString(file)).size());
    OpenOptions options;
    options.indexFolder = folder.filePath("indexes").toStdString();

    {
        Opened first = openWindow(file, options);  // as the application does: a small one without an index
        figures.markers = first.window->document().recording()->markerCount();
        figures.of["first picture"] = first.firstPicture;
        figures.of["read"] = first.read;
        figures.of["explained"] = first.explained;
        figures.of["block first"] = first.block;
        const double index = static_cast<double>(first.window->document().recording()->storage->size());
        figures.of["file bytes"] = size / static_cast<double>(figures.markers);
        figures.of["index bytes"] = index / static_cast<double>(figures.markers);
        figures.of["floor"] = floorMs(file, static_cast<uint64_t>(index));
        figures.of["copy"] = copyMs(static_cast<uint64_t>(size + index));
    }
    options.indexFromBytes = 0;  // from here on at every size the same way
    if (QDir(QString::fromStdString(options.indexFolder)).isEmpty()) openWindow(file, options);
    Opened again = openWindow(file, options);
    figures.of["second picture"] = again.firstPicture;
    figures.of["second explained"] = again.explained;
    const auto recording = again.window->document().recording();
    figures.of["block opening"] = again.block;
    again.window->selection().chooseSite(siteNamed(*recording, "Splash drop"));
    figures.of["block"] = useEveryPanel(*again.window, "reef");
    figures.of["memory"] = static_cast<double>(Storage::residentBytes()) / 1e9;
    figures.of["repaint"] = repaint99(*again.window);

    std::shared_ptr<const Explanation> explanation;
    figures.of["explaining"] = quickest([&] {  // without what is kept of the first time
        QFile::remove(QString::fromStdString(recording->keptAt).replace(".index", ".frames0"));
        explanation.reset();
        explanation = explain(recording, sumCriticalPaths(*recording, 0), 0);
    });
    figures.of["frames"] = static_cast<double>(explanation->frames.size());

    figures.of["further"] = furtherMs(*recording, *explanation);
    figures.of["explaining with system"] = explainingWithSystemMs(markers, figures);

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
    if (withSqlite) figures.of["sqlite"] = sqliteMs(*recording, folder.filePath("rows.sqlite").toStdString());
    return figures;
}

}  // namespace

bool scaleRows(uint64_t most) {
    std::vector<Figures> sizes;
    for (uint64_t markers = 1'000'000; markers <= most; markers *= 10) {
        std::fprintf(stderr, "measuring at %llu markers…\n", static_cast<unsigned long long>(markers));
        sizes.push_back(measureAt(markers, true));
    }
    if (sizes.empty()) return false;
    std::string head = "| what |", rule = "|---|";
    for (const Figures& size : sizes) {
        head += " " + number("%.0f million", static_cast<double>(size.markers) / 1e6) + " |";
        rule += "---|";
    }
    std::printf("%s goal | met |\n%s---|---|\n", head.c_str(), rule.c_str());
    bool all = true;
    // `met` judges the largest size.
    const auto row = [&](const std::string& what, auto&& figure, const std::string& goal, auto&& met) {
        std::printf("| %s |", what.c_str());
        for (const Figures& size : sizes) std::printf(" %s |", figure(size).c_str());
        const std::optional<bool> good = met(sizes.back());
        std::printf(" %s | %s |\n", goal.c_str(), !good ? "–" : *good ? "yes" : "**no**");
        all &= good.value_or(true);
    };
    const auto plain = [](const char* key, const char* form) {
        return [key, form](const Figures& f) { return number(form, f.of.count(key) ? f.of.at(key) : 0); };
    };
    const auto atMost = [](const char* key, double limit) {
        return [key, limit](const Figures& f) { return std::optional(f.of.count(key) && f.of.at(key) <= limit); };
    };
    const auto none = [](const Figures&) { return std::optional<bool>(); };
    const Figures& least = sizes.front();
    row("opening for the first time: first picture", plain("first picture", "%.0f ms"), "1 s",
        atMost("first picture", 1000));
    row("… every lane read and indexed", plain("read", "%.0f ms"), "none set", none);
    row(
        "… ÷ decoding all events and one pass over memory",
        [](const Figures& f) { return number("%.2f", f.of.at("read") / f.of.at("floor")); }, "at most 1.5",
        [](const Figures& f) { return std::optional(f.of.at("read") / f.of.at("floor") <= 1.5); });
    row(
        "… ÷ reading the file and writing its index at the speed of copying memory",
        [](const Figures& f) { return number("%.1f", f.of.at("read") / f.of.at("copy")); }, "4 is wanted",
        [](const Figures& f) { return std::optional(f.of.at("read") / f.of.at("copy") <= 4); });
    row("… costliest cause explained", plain("explained", "%.0f ms"), "none set", none);
    row("opening again: first picture", plain("second picture", "%.0f ms"), "1 s", atMost("second picture", 1000));
    row("… costliest cause explained", plain("second explained", "%.0f ms"), "none set", none);
    row("longest block of the interface thread: opening for the first time", plain("block first", "%.1f ms"), "16 ms",
        atMost("block first", 16));
    row("… opening again", plain("block opening", "%.1f ms"), "16 ms", atMost("block opening", 16));
    row("… while every panel is used by key and pointer", plain("block", "%.1f ms"), "16 ms", atMost("block", 16));
    row("bytes a marker, unpacked file", plain("file bytes", "%.1f"), "none set", none);
    row("bytes a marker, index", plain("index bytes", "%.1f"), "none set", none);
    row("memory after using every panel", plain("memory", "%.2f GB"), "1.5 GB", atMost("memory", 1.5));
    row("painting: 99th percentile of a repaint of strip and lanes", plain("repaint", "%.1f ms"), "8 ms",
        atMost("repaint", 8));
    row(
        "… ÷ at a million markers",
        [&](const Figures& f) { return number("%.2f", f.of.at("repaint") / least.of.at("repaint")); }, "at most 1.2",
        [&](const Figures& f) { return std::optional(f.of.at("repaint") / least.of.at("repaint") <= 1.2); });
    row(
        "explaining every frame",
        [](const Figures& f) {
            return number("%.0f ms", f.of.at("explaining")) + number(" (%.0f frames)", f.of.at("frames"));
        },
        "2 s", atMost("explaining", 2000));
    row(
        "… with what the system told: switches, call stacks and their functions",
        [](const Figures& f) {
            return number("%.0f ms", f.of.at("explaining with system")) +
                   number(" (%.0f switches,", f.of.at("switches")) + number(" %.0f call stacks)", f.of.at("samples"));
        },
        "4 s", atMost("explaining with system", 4000));
    row("explaining further while it grows: 95th percentile of one new frame", plain("further", "%.1f ms"), "5 ms",
        atMost("further", 5));
    row("asking: figures of one marker, a tenth of all markers", plain("statistics often", "%.1f ms"), "100 ms",
        atMost("statistics often", 100));
    row("asking: figures of one marker, once a frame", plain("statistics usual", "%.1f ms"), "100 ms",
        atMost("statistics usual", 100));
    row("asking: table of the whole recording", plain("table whole", "%.1f ms"), "100 ms", atMost("table whole", 100));
    row("asking: table of a quarter of it", plain("table part", "%.1f ms"), "100 ms", atMost("table part", 100));
    row("asking: from the leaves up, the whole recording beside what is usual", plain("leaves", "%.1f ms"), "1000 ms",
        atMost("leaves", 1000));
    row("asking: nested, all late frames beside what is usual", plain("late", "%.1f ms"), "1000 ms",
        atMost("late", 1000));
    row("asking: all events in order of time", plain("events", "%.1f ms"), "1000 ms", atMost("events", 1000));
    row("asking: those that hold some letters", plain("events filtered", "%.1f ms"), "1000 ms",
        atMost("events filtered", 1000));
    row("asking: a window of events anywhere, 99th percentile", plain("events jump", "%.1f ms"), "50 ms",
        atMost("events jump", 50));
    row("asking: memory, the whole recording", plain("memory figures", "%.1f ms"), "1000 ms",
        atMost("memory figures", 1000));
    row("asking: stretches without a marker, the whole recording", plain("coverage", "%.0f ms"), "none set", none);
    row("asking: what a marker is connected with, 99th percentile", plain("connections", "%.1f ms"), "100 ms",
        atMost("connections", 100));
    row("asking: everything at one instant", plain("instant", "%.2f ms"), "16 ms", atMost("instant", 16));
    row("asking: waits of the whole recording", plain("waits", "%.1f ms"), "1000 ms", atMost("waits", 1000));
    row("asking: the 1 000 longest occurrences of a tenth of all markers", plain("longest", "%.1f ms"), "100 ms",
        atMost("longest", 100));
    row("asking: the first 4 096 of all of these, by length", plain("occurrences", "%.1f ms"), "100 ms",
        atMost("occurrences", 100));
    row("asking: 4 096 of them from anywhere", plain("occurrences jump", "%.1f ms"), "50 ms",
        atMost("occurrences jump", 50));
    const auto flames = [](const Figures& f) {
        return (f.of.at("stacks") + f.of.at("flames")) / std::max(1.0, f.of.at("samples") / 1e6);
    };
    row(
        "asking: a flame graph from either end, by million call stacks",
        [&](const Figures& f) {
            return number("%.0f ms", flames(f)) + number(" (%.0f call stacks)", f.of.at("samples"));
        },
        "300 ms", [&](const Figures& f) { return std::optional(flames(f) <= 300); });
    row("asking: search in names, arguments and points", plain("search", "%.1f ms"), "100 ms", atMost("search", 100));
    row("the same rows grouped by marker in SQLite", plain("sqlite", "%.0f ms"), "–", none);
    row(
        "… ÷ table of the whole recording",
        [](const Figures& f) { return number("%.0f", f.of.at("sqlite") / f.of.at("table whole")); }, "at least 500",
        [](const Figures& f) { return std::optional(f.of.at("sqlite") / f.of.at("table whole") >= 500); });
    return all;
}

}  // namespace measure
