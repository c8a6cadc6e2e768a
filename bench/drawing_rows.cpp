// SPDX-License-Identifier: GPL-3.0-or-later
#include <QElapsedTimer>

#include "rows.h"
#include "windows.h"

namespace measure {

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
