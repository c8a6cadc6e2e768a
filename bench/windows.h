// SPDX-License-Identifier: GPL-3.0-or-later
//
// A real window, off screen, and how long it takes to open and to paint.
#pragma once

#include <QApplication>
#include <QElapsedTimer>
#include <memory>
#include <string>
#include <utility>

#include "app/window/main_window.h"

namespace measure {

inline double msOf(const QElapsedTimer& timer) { return static_cast<double>(timer.nsecsElapsed()) * 1e-6; }

/// Knows how long each event held up the loop of events.
class WatchedApplication : public QApplication {
public:
    using QApplication::QApplication;
    bool notify(QObject* receiver, QEvent* event) override;
    /// The longest since this was asked last, in ms.
    double longestBlock() { return std::exchange(longest_, 0); }
    /// The same, without the time in which the thread waited for a core, a lock or a disk.
    double longestOwn() { return std::exchange(longestOwn_, 0); }

private:
    int depth_ = 0;
    double longest_ = 0, longestOwn_ = 0;
};
WatchedApplication& watched();

/// Times in ms of opening a file in a new window: to the first picture of its lanes, until every lane is
/// read, to the explanation.
struct Opened {
    std::unique_ptr<fugato::MainWindow> window;
    double firstPicture = 0, read = 0, explained = 0;
    double block = 0;  // the longest that the interface stood still meanwhile, ms
};
Opened openWindow(const std::string& file, const fugato::OpenOptions& options = {});

/// 99th percentile of a repaint of strip and lanes, in ms, over random zooms and pans. Each view is painted four times
/// and the quickest counts: the others tell what else this machine was busy with.
double repaint99(fugato::MainWindow& window);

/// Goes by key and mouse through spikes, views, pages, tooltips and searches for `words`, and waits for what each asks.
/// Returns the longest that the interface stood still meanwhile, ms.
double useEveryPanel(fugato::MainWindow& window, const QString& words);

}  // namespace measure
