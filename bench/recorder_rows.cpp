// SPDX-License-Identifier: GPL-3.0-or-later
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <cstring>
#include <filesystem>
#include <fugato/fugato.hpp>
#include <random>
#include <thread>
#include <vector>

#include "core/model/model_builder.h"
#include "rows.h"

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
            "at most 1.5", ratios[200] <= 1.5 && fug_lost() == 0};
}

Row sizeRow() {
    const std::string file = scratchFile("real.fugato");
    if (!sail({"--seconds", "6", "--out", file})) return {"file size", "skerry failed", "", false};
    const auto opened = fugato::openRecording(file);
    if (!opened) return {"file size", opened.failure().sentence, "", false};
    const double bytes =
        static_cast<double>(std::filesystem::file_size(file)) / static_cast<double>((*opened)->markerCount());
    return {"file size: bytes a marker on the demo's real run, not yet packed", number("%.1f", bytes),
            "none yet: packing is not made", std::nullopt};
}

Row killRow() {
    constexpr int kRounds = 40;
    std::mt19937 random(1);
    int readable = 0;
    for (int round = 0; round < kRounds; ++round) {
        const std::string file = scratchFile("killed.fugato");
        std::filesystem::remove(file);
        const pid_t child = fork();
        if (child == 0) {
            execl(SKERRY_PROGRAM, "skerry", "--out", file.c_str(), "--seconds", "30", static_cast<char*>(nullptr));
            _exit(127);
        }
        usleep(200'000 + random() % 500'000);
        kill(child, SIGKILL);
        int status = 0;
        waitpid(child, &status, 0);
        const auto opened = fugato::openRecording(file);
        readable += opened.ok() && (*opened)->repairs.timesBackwards == 0;
    }
    return {"kill: recordings that open after kill -9 at random instants",
            std::to_string(readable) + " of " + std::to_string(kRounds), "all", readable == kRounds};
}

}  // namespace

std::vector<Row> recorderRows() { return {markerRow(), sizeRow(), killRow()}; }

}  // namespace measure
