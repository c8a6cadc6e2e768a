// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QElapsedTimer>
#include <QPainter>
#include <QSignalSpy>
#include <algorithm>
#include <random>

#include "app/lanes/lanes_view.h"
#include "app/strip/overrun_strip.h"
#include "app/window/main_window.h"
#include "rows.h"

namespace measure {

namespace {

double msOf(const QElapsedTimer& timer) { return static_cast<double>(timer.nsecsElapsed()) * 1e-6; }

/// Times of opening a file in a new window: to the first picture of its lanes, to the explanation.
struct Opened {
    std::unique_ptr<fugato::MainWindow> window;
    double firstPicture = 0, explained = 0;
};

Opened openWindow(const std::string& file) {
    Opened opened;
    opened.window = std::make_unique<fugato::MainWindow>();
    opened.window->resize(1280, 800);
    opened.window->show();
    QApplication::processEvents();
    QElapsedTimer timer;
    QObject::connect(&opened.window->lanes(), &fugato::LanesView::painted, opened.window.get(), [&] {
        if (opened.firstPicture == 0 && opened.window->document().recording()) opened.firstPicture = msOf(timer);
    });
    QSignalSpy explained(&opened.window->document(), &fugato::Document::explanationChanged);
    timer.start();
    opened.window->open(QString::fromStdString(file));
    explained.wait(60'000);
    opened.explained = msOf(timer);
    QApplication::processEvents();
    return opened;
}

/// 99th percentile of a repaint of strip and lanes, in ms, over random zooms and pans.
double repaint99(fugato::MainWindow& window) {
    std::mt19937 random(4);
    std::vector<double> times;
    QImage canvas(1280, 800, QImage::Format_ARGB32_Premultiplied);
    auto& selection = window.selection();
    const int64_t begin = window.document().recording()->begin, end = window.document().recording()->end;
    for (int i = 0; i < 600; ++i) {
        if (i % 40 == 0) selection.showWhole();
        const int64_t at = selection.view().begin + static_cast<int64_t>(random() % 1000) *
                                                        (selection.view().end - selection.view().begin) / 1000;
        if (i % 4 == 3)
            selection.pan(0.3);
        else
            selection.zoom(random() % 3 ? 0.6 : 1.5, std::clamp(at, begin, end));
        QElapsedTimer timer;
        timer.start();
        QPainter painter(&canvas);
        window.strip().render(&painter, {0, 0});
        window.lanes().render(&painter, {0, 110});
        painter.end();
        times.push_back(msOf(timer));
    }
    std::sort(times.begin(), times.end());
    return times[times.size() * 99 / 100];
}

}  // namespace

std::vector<Row> drawingRows() {
    std::vector<Row> rows;
    const Opened demo = openWindow(FUGATO_DEMO_RECORDING);
    rows.push_back({"opening: the demo recording, first picture", number("%.0f ms", demo.firstPicture), "1 000 ms",
                    demo.firstPicture > 0 && demo.firstPicture <= 1000});
    rows.push_back({"opening: the demo recording, costliest cause explained", number("%.0f ms", demo.explained),
                    "1 000 ms", demo.explained <= 1000});
    const double long99 = repaint99(*demo.window);
    rows.push_back(
        {"painting: 99th percentile of a repaint of strip and lanes, zooming and panning, 1280x800, offscreen raster",
         number("%.1f ms", long99), "8 ms", long99 <= 8});
    const std::string small = scratchFile("short.fugato");
    sail({"--virtual", "--seed", "4", "--seconds", "10", "--out", small});
    const Opened shortRun = openWindow(small);
    const double short99 = repaint99(*shortRun.window);
    rows.push_back({"painting: the demo recording ÷ one fifteenth as long", number("%.2f", long99 / short99),
                    "at most 1.2", long99 / short99 <= 1.2});

    const auto recording = demo.window->document().recording();
    QElapsedTimer timer;
    timer.start();
    const auto accounts = fugato::accountFrames(*recording, 0);
    const auto explanation = fugato::explain(recording, accounts, 0);
    const double ms = msOf(timer);
    const double perFrame = ms * 1000 / static_cast<double>(explanation->frames.size());
    rows.push_back({"explaining: every frame of the demo recording",
                    number("%.0f ms", ms) + number(" (%.1f µs a frame)", perFrame), "20 µs a frame (2 s for 100 000)",
                    perFrame <= 20});
    return rows;
}

}  // namespace measure
