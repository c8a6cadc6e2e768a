// SPDX-License-Identifier: GPL-3.0-or-later
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <deque>
#include <filesystem>
#include <fstream>
#include <fugato/fugato.hpp>
#include <map>
#include <random>
#include <thread>
#include <vector>

#include "core/model/open_recording.h"
#include "format/binary_form.h"
#include "format/packed_events.h"
#include "rows.h"
#include "testing/kill_rounds.h"

namespace measure {

namespace {

constexpr int kPairs = 8'000;  // one batch fits the buffer, so that nothing is lost or slowed by a full one

uint64_t nsNow() {
    timespec time{};
    clock_gettime(CLOCK_MONOTONIC, &time);
    return static_cast<uint64_t>(time.tv_sec) * 1'000'000'000u + static_cast<uint64_t>(time.tv_nsec);
}

/// The least a begin and an end can cost: two clock reads and two 16-byte stores into a ring.
[[gnu::noinline]] void floorBatch(fug_slot* ring, uint64_t mask, uint64_t& head) {
    uint64_t at = head;
    for (int i = 0; i < kPairs; ++i) {
        for (int k = 0; k < 2; ++k) {
            fug_slot* slot = &ring[at++ & mask];
            slot->ticks = fug_now();
            slot->word = 7;
            asm volatile("" ::: "memory");
        }
    }
    head = at;
}

[[gnu::noinline]] void markerBatch() {
    for (int i = 0; i < kPairs; ++i) {
        FUG_MARK("Measured");
    }
}

Row markerRow() {
    const std::string file = scratchFile("pairs.fugato");
    fug_start(file.c_str(), nullptr);
    std::vector<fug_slot> ring(1u << 16);
    uint64_t head = 0;
    std::vector<double> ratios, floors;
    for (int round = 0; round < 400; ++round) {
        const uint64_t a = nsNow();
        floorBatch(ring.data(), ring.size() - 1, head);
        const uint64_t b = nsNow();
        markerBatch();
        const uint64_t c = nsNow();
        ratios.push_back(static_cast<double>(c - b) / static_cast<double>(b - a));
        floors.push_back(static_cast<double>(b - a) / kPairs);
        std::this_thread::sleep_for(std::chrono::milliseconds(3));  // the background thread writes meanwhile
    }
    fug_stop();
    std::nth_element(ratios.begin(), ratios.begin() + 200, ratios.end());
    std::nth_element(floors.begin(), floors.begin() + 200, floors.end());
    return {"a marker: begin and end ÷ two clock reads and two 16-byte stores, same loop, while written to disk",
            number("%.2f", ratios[200]) + number(" (floor %.1f ns", floors[200]) +
                number(", lost %.0f)", static_cast<double>(fug_lost())),
            "at most 1.15", ratios[200] <= 1.15 && fug_lost() == 0};
}

[[gnu::noinline]] void loadAndBranchBatch(const uint64_t& word, uint64_t& taken) {
    for (int i = 0; i < kPairs; ++i) {
        if (static_cast<int64_t>(__atomic_load_n(&word, __ATOMIC_RELAXED)) >= 0) ++taken;
        asm volatile("" ::: "memory");
    }
}

[[gnu::noinline]] void switchedOffBatch() {
    for (int i = 0; i < kPairs; ++i) {
        FUG_MARK("Switched off", "measured off");
        asm volatile("" ::: "memory");
    }
}

double middle(std::vector<double>& values) {
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2), values.end());
    return values[values.size() / 2];
}

Row switchedOffRow() {
    fug_start(scratchFile("off.fugato").c_str(), nullptr);
    switchedOffBatch();
    fug_detail("measured off", -1);
    const uint64_t word = uint64_t{1} << 63;
    uint64_t taken = 0;
    std::vector<double> ratios, each;
    for (int round = 0; round < 400; ++round) {
        const uint64_t a = nsNow();
        loadAndBranchBatch(word, taken);
        const uint64_t b = nsNow();
        switchedOffBatch();
        const uint64_t c = nsNow();
        ratios.push_back(static_cast<double>(c - b) / static_cast<double>(std::max<uint64_t>(1, b - a)));
        each.push_back(static_cast<double>(c - b) / kPairs);
    }
    fug_stop();
    const double ratio = middle(ratios);
    return {"a marker whose category is switched off ÷ one load and one branch",
            number("%.2f", ratio) + number(" (%.2f ns)", middle(each)), "at most 2 (its end tests a register)",
            ratio <= 2};
}

/// What one event of each kind costs, beside a marker's begin and end.
Row kindsRow() {
    fug_options options{};
    options.buffer_events = 1 << 18;
    fug_start(scratchFile("kinds.fugato").c_str(), &options);
    std::string figure;
    std::thread([&] {
        static fug_key key = FUG_KEY("key");
        static fug_site site = FUG_SITE("Site", "", "");
        const uint32_t series = fug_series("loop", 0), counter = fug_counter("counter", "", nullptr),
                       object = fug_object("object");
        double marker = 0;
        const auto measured = [&](const char* name, auto&& event) {
            std::vector<double> times;
            for (int round = 0; round < 60; ++round) {
                const uint64_t a = nsNow();
                for (int i = 0; i < 2000; ++i) event(i);
                times.push_back(static_cast<double>(nsNow() - a) / 2000);
                std::this_thread::sleep_for(std::chrono::milliseconds(1));
            }
            const double time = middle(times);
            if (marker == 0) marker = time;
            figure += (figure.empty() ? "" : ", ") + std::string(name) + number(" %.1f", time / marker);
        };
        measured("marker", [&](int) { fug_end(fug_begin(&site)); });
        measured("number argument", [&](int i) { fug_integer(&key, i); });
        measured("frame", [&](int) { fug_frame_begin(series, 0), fug_frame_end(series); });
        measured("counter", [&](int i) { fug_count(counter, i); });
        measured("lock", [&](int) { fug_taken(object), fug_given(object); });
        measured("wait", [&](int) { fug_wait_end(fug_wait_begin(&site, object, FUG_WAIT_LOCK), 0); });
        measured("operation", [&](int) { fug_operation_end(fug_operation_begin(&site), 0, nullptr); });
        measured("memory", [&](int i) {
            fug_memory_taken(0, &options + i, 8, nullptr);
            fug_memory_given(0, &options + i);
        });
        measured("point of 20 letters", [&](int) { fug_point(FUG_INFO, "twenty letters here."); });
    }).join();
    fug_stop();
    return {"what each kind of event costs ÷ a marker", figure, "none set", std::nullopt};
}

Row sustainedRow() {
    constexpr double kSeconds = 60, kPairsPerSecond = 10e6;
    fug_options options{};
    options.buffer_events = 1 << 22;  // a fifth of a second, 64 MB
    const std::string file = scratchFile("sustained.fugato");
    fug_start(file.c_str(), &options);
    std::atomic<uint64_t> made{0};
    const auto work = [&] {
        const uint64_t start = nsNow();
        uint64_t done = 0;
        for (;;) {
            const double now = static_cast<double>(nsNow() - start) * 1e-9;
            if (now > kSeconds) break;
            const auto due = std::min(static_cast<uint64_t>(now * kPairsPerSecond), done + 20'000);
            for (; done < due; ++done) {
                FUG_MARK("Sustained");
            }
            const timespec rest{0, 20'000};
            nanosleep(&rest, nullptr);
        }
        made += done;
    };
    std::thread one(work), other(work);
    one.join();
    other.join();
    fug_stop();
    const double rate = static_cast<double>(made) / kSeconds / 2e6, lost = static_cast<double>(fug_lost());
    const auto bytes = static_cast<double>(std::filesystem::file_size(file));
    std::filesystem::remove(file);
    return {"sustained: million pairs a second from each of two threads for 60 s",
            number("%.2f", rate) + number(", lost %.0f events", lost) + number(", %.1f GB written", bytes * 1e-9) +
                (*fug_status() ? std::string(", ") + fug_status() : ""),
            "10, nothing lost", rate >= 9.95 && lost == 0};
}

/// Bytes that xz -9 makes of a file's columns, and those that packing makes of them.
std::pair<double, double> againstXz(const std::string& file) {
    auto source = fugato::openFile(file);
    if (!source) return {0, 0};
    struct Lane {
        std::vector<fugato::layout::RawEvent> events;
        std::deque<std::string> texts;
    };
    std::map<uint32_t, Lane> lanes;
    std::string payload;
    for (const auto& block : fugato::findBlocks(**source).blocks) {
        if (block.type != static_cast<uint32_t>(fugato::layout::BlockType::Events)) continue;
        if (!fugato::readPayload(**source, block, payload)) continue;
        const auto* at = reinterpret_cast<const uint8_t*>(payload.data());
        const auto* end = at + payload.size();
        uint64_t previous = block.firstTicks;
        fugato::layout::RawEvent event;
        Lane& lane = lanes[block.lane];
        while (fugato::layout::readEvent(at, end, event, previous)) {
            if (!event.text.empty()) event.text = lane.texts.emplace_back(event.text);
            lane.events.push_back(event);
        }
    }
    const std::string columns = scratchFile("columns");
    double packed = 0;
    {
        std::ofstream out(columns, std::ios::binary);
        for (const auto& [id, lane] : lanes) {
            for (const std::string& column : fugato::eventColumns(lane.events, lane.events.front().ticks))
                out << column;
            packed += static_cast<double>(fugato::packEvents(lane.events, lane.events.front().ticks).size());
        }
    }
    if (std::system(("xz -9 -k -f " + columns).c_str()) != 0) return {0, packed};
    return {static_cast<double>(std::filesystem::file_size(columns + ".xz")), packed};
}

std::vector<Row> sizeRows() {
    std::vector<Row> rows;
    for (const char* system : {"none", "all"}) {
        const std::string file = scratchFile("real.fugato"), packed = scratchFile("packed.fugato");
        if (!sail({"--seconds", "10", "--system", system, "--overwrite", "--out", file}))
            return {{"file size", "skerry failed", "", false}};
        const auto bytes = fugato::packRecordingFile(file, packed);
        const auto opened = fugato::openRecording(packed);
        if (!bytes || !opened) return {{"file size", "packing failed", "", false}};
        const bool bare = system == std::string("none");
        const auto markers = static_cast<double>((*opened)->markerCount());
        const double each = static_cast<double>(*bytes) / markers;
        Row row{bare ? "file size: packed bytes a marker on the demo's real run"
                     : "the same with everything the operating system tells",
                number("%.2f", each) +
                    number(" (unpacked %.1f)", static_cast<double>(std::filesystem::file_size(file)) / markers),
                bare ? "at most 4" : "none set", std::nullopt};
        if (bare) row.met = each <= 4;
        rows.push_back(row);
        if (!bare) continue;
        const auto [xz, ours] = againstXz(file);
        rows.push_back({"file size: packed ÷ xz -9 of the same columns",
                        xz > 0 ? number("%.2f", ours / xz) : "xz failed", "at most 1.1", xz > 0 && ours / xz <= 1.1});
    }
    return rows;
}

Row killRow() {
    constexpr int kRounds = 1000;
    std::mt19937 random(1);
    int whole = 0;
    std::string wrong;
    const std::string file = scratchFile("killed.fugato");
    for (int round = 0; round < kRounds; ++round) {
        const std::string found = fugato::killWhileRecording(file, static_cast<unsigned>(random() % 30'000), SIGKILL);
        whole += found.empty();
        if (!found.empty()) wrong = found;
    }
    return {"kill: recordings whole up to the last published event after kill -9 at random instants",
            std::to_string(whole) + " of " + std::to_string(kRounds) + (wrong.empty() ? "" : " (" + wrong + ")"), "all",
            whole == kRounds};
}

}  // namespace

std::vector<Row> recorderRows() {
    std::vector<Row> rows{markerRow(), switchedOffRow(), kindsRow(), sustainedRow()};
    for (Row& row : sizeRows()) rows.push_back(std::move(row));
    rows.push_back(killRow());
    return rows;
}

}  // namespace measure
