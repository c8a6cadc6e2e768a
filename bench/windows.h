// SPDX-License-Identifier: GPL-3.0-or-later
//
// A real window, off screen, and how long it takes to open and to paint.
#pragma once

#include <QElapsedTimer>
#include <memory>
#include <string>

#include "app/window/main_window.h"

namespace measure {

inline double msOf(const QElapsedTimer& timer) { return static_cast<double>(timer.nsecsElapsed()) * 1e-6; }

/// Times in ms of opening a file in a new window: to the first picture of its lanes, until every lane is
/// read, to the explanation.
struct Opened {
    std::unique_ptr<fugato::MainWindow> window;
    double firstPicture = 0, read = 0, explained = 0;
};
Opened openWindow(const std::string& file, const fugato::OpenOptions& options = {});

/// 99th percentile of a repaint of strip and lanes, in ms, over random zooms and pans. Each view is painted four times
/// and the quickest counts: the others tell what else this machine was busy with.
double repaint99(fugato::MainWindow& window);

}  // namespace measure
