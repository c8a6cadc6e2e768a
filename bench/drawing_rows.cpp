// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QElapsedTimer>
#include <QFileInfo>
#include <QProcess>
#include <QThread>
#include <algorithm>
#include <chrono>

#include "app/strip/overrun_strip.h"
#include "core/explain/causes/explain.h"
#include "rows.h"
#include "windows.h"

namespace measure {

std::vector<Row> liveRows() {
    // The real program in real time, followed by a window while it runs.
    constexpr int kSeconds = 8;
    const QString file = QString::fromStdString(scratchFile("live.fugato"));
    QProcess program;
    program.start(SKERRY_PROGRAM,
                  {"--overwrite", "--out", file, "--seconds", QString::number(kSeconds), "--system", "none"});
    QElapsedTimer waited;
    waited.start();
    while (QFileInfo(file).size() < 50'000 && waited.elapsed() < 10'000) QThread::msleep(5);
    Opened opened = openWindow(file.toStdString());
    fugato::Document& document = opened.window->document();
    std::vector<double> delays;
    size_t shown = document.explanation() ? document.explanation()->frames.size() : 0;
    QObject::connect(&document, &fugato::Document::explanationChanged, opened.window.get(), [&] {
        opened.window->strip().repaint();
        const auto now =
            std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::system_clock::now().time_since_epoch())
                .count();
        const auto& e = *document.explanation();
        if (!e.recording->growing) return;  // what ends the recording is not a frame's end
        for (; shown < e.frames.size(); ++shown)
            delays.push_back(
                static_cast<double>(now - e.recording->startedUnixNs - e.frame(static_cast<uint32_t>(shown)).end) *
                1e-6);
    });
    while (document.recording()->growing && waited.elapsed() < 60'000)
        QApplication::processEvents(QEventLoop::AllEvents | QEventLoop::WaitForMoreEvents, 50);
    program.waitForFinished();
    std::vector<Row> rows;
    if (delays.empty()) return rows;
    std::sort(delays.begin(), delays.end());
    const double middle = delays[delays.size() / 2], high = delays[delays.size() * 95 / 100];
    rows.push_back({"live: from the end of a frame to its bar on the screen, median and 95th percentile",
                    number("%.0f ms, ", middle) + number("%.0f ms", high), "100 ms", high <= 100});
    const size_t made = kSeconds * 60, bars = document.explanation()->frames.size();
    rows.push_back(
        {"live: frames shown ÷ frames made", std::to_string(bars) + " ÷ " + std::to_string(made), "all", bars == made});
    return rows;
}

std::vector<Row> drawingRows() {
    std::vector<Row> rows;
    const Opened demo = openWindow(FUGATO_DEMO_RECORDING);
    rows.push_back({"opening: the demo recording, first picture", number("%.0f ms", demo.firstPicture), "1 000 ms",
                    demo.firstPicture > 0 && demo.firstPicture <= 1000});
    rows.push_back({"opening: the demo recording, costliest cause explained", number("%.0f ms", demo.explained),
                    "1 000 ms", demo.explained <= 1000});
    const double long99 = repaint99(*demo.window);
    rows.push_back(
        {"painting: 99th percentile of a repaint of strip and lanes, zooming and panning, 1280x800, offscreen "
         "raster",
         number("%.1f ms", long99), "8 ms", long99 <= 8});
    const std::string small = scratchFile("short.fugato");
    sail({"--virtual", "--seed", "4", "--seconds", "10", "--overwrite", "--out", small});
    const Opened shortRun = openWindow(small);
    const double short99 = repaint99(*shortRun.window);
    rows.push_back({"painting: the demo recording ÷ one fifteenth as long", number("%.2f", long99 / short99),
                    "at most 1.2", long99 / short99 <= 1.2});

    const auto recording = demo.window->document().recording();
    QElapsedTimer timer;
    timer.start();
    const auto pathSums = fugato::sumCriticalPaths(*recording, 0);
    const auto explanation = fugato::explain(recording, pathSums, 0);
    const double ms = msOf(timer);
    const double perFrame = ms * 1000 / static_cast<double>(explanation->frames.size());
    rows.push_back({"explaining: every frame of the demo recording",
                    number("%.0f ms", ms) + number(" (%.1f µs a frame)", perFrame), "20 µs a frame (2 s for 100 000)",
                    perFrame <= 20});
    return rows;
}

}  // namespace measure
