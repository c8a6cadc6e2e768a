// SPDX-License-Identifier: GPL-3.0-or-later
#include <time.h>

#include <QApplication>
#include <QElapsedTimer>
#include <QEventLoop>
#include <QFile>
#include <QFileInfo>
#include <QProcess>
#include <QThread>
#include <QTimer>
#include <algorithm>
#include <chrono>

#include "app/strip/overrun_strip.h"
#include "core/explain/causes/explain.h"
#include "rows.h"
#include "windows.h"

namespace measure {

namespace {

/// Of all threads of this process.
double processorSeconds() {
    timespec time{};
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &time);
    return static_cast<double>(time.tv_sec) + static_cast<double>(time.tv_nsec) * 1e-9;
}

/// The program shows its first picture a moment after it was started; 0 where nothing came.
double secondsToFirstBar() {
    qputenv("SDL_VIDEODRIVER", "dummy");
    fugato::MainWindow window;
    window.show();
    fugato::Launch launch;
    launch.program = PICTURES_PROGRAM;
    launch.arguments = {"renderer", "600"};
    QElapsedTimer waited;
    waited.start();
    double seconds = 0;
    QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window, [&] {
        window.strip().repaint();
        if (seconds == 0 && !window.document().explanation()->frames.empty())
            seconds = static_cast<double>(waited.elapsed()) * 1e-3;
    });
    window.session().start(launch);
    while (seconds == 0 && waited.elapsed() < 20'000)
        QApplication::processEvents(QEventLoop::AllEvents | QEventLoop::WaitForMoreEvents, 20);
    const QString made = window.document().path();
    window.session().end();
    while (window.session().runs() && waited.elapsed() < 30'000)
        QApplication::processEvents(QEventLoop::AllEvents | QEventLoop::WaitForMoreEvents, 20);
    QFile::remove(made);
    return seconds;
}

}  // namespace

std::vector<Row> liveRows() {
    // The real program in real time, followed by a window while it runs.
    constexpr int kSeconds = 20;
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
    const auto look = [&] {
        opened.window->strip().repaint();
        const auto now =
            std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::system_clock::now().time_since_epoch())
                .count();
        const auto& e = *document.explanation();
        const auto& more = document.newFrames();
        if (!e.recording->growing) return;  // what ends the recording is not a frame's end
        for (; shown < e.frames.size() + more.size(); ++shown) {
            const fugato::Frame& frame =
                shown < e.frames.size() ? e.frame(static_cast<uint32_t>(shown)) : more[shown - e.frames.size()].frame;
            delays.push_back(static_cast<double>(now - e.recording->startedUnixNs - frame.end) * 1e-6);
        }
    };
    QObject::connect(&document, &fugato::Document::explanationChanged, opened.window.get(), look);
    QObject::connect(&document, &fugato::Document::newFramesChanged, opened.window.get(), look);
    const double busyBefore = processorSeconds();
    QElapsedTimer followed;
    followed.start();
    QEventLoop loop;  // which sleeps between events, as the application does
    QObject::connect(&document, &fugato::Document::recordingGrew, &loop, [&] {
        if (!document.recording()->growing) loop.quit();
    });
    QTimer::singleShot(60'000, &loop, &QEventLoop::quit);
    if (document.recording()->growing) loop.exec();
    const double share = (processorSeconds() - busyBefore) * 1000 / static_cast<double>(followed.elapsed());
    program.waitForFinished();
    std::vector<Row> rows;
    const double toFirstBar = secondsToFirstBar();
    if (delays.empty()) return rows;
    std::sort(delays.begin(), delays.end());
    const double middle = delays[delays.size() / 2], high = delays[delays.size() * 95 / 100];
    rows.push_back({"live: from the end of a frame to its bar on the screen, median and 95th percentile",
                    number("%.0f ms, ", middle) + number("%.0f ms", high), "100 ms", high <= 100});
    const size_t made = kSeconds * 60, bars = document.explanation()->frames.size();
    rows.push_back(
        {"live: frames shown ÷ frames made", std::to_string(bars) + " ÷ " + std::to_string(made), "all", bars == made});
    rows.push_back({"live: from starting an unmodified program to its first bar on the screen",
                    number("%.2f s", toFirstBar), "2 s", toFirstBar > 0 && toFirstBar <= 2});
    rows.push_back({"live: the application's share of one core", number("%.0f %%", share * 100), "5 %", share <= 0.05});
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
