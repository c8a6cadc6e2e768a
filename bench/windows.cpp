// SPDX-License-Identifier: GPL-3.0-or-later
#include "windows.h"

#include <QHelpEvent>
#include <QLineEdit>
#include <QPainter>
#include <QSignalSpy>
#include <QtTest>
#include <algorithm>
#include <ctime>
#include <random>

#include "app/drawer/drawer.h"
#include "app/lanes/lanes_view.h"
#include "app/strip/overrun_strip.h"
#include "app/verdict/verdict_bar.h"

namespace measure {

namespace {

/// For how long this thread ran.
double ownMs() {
    timespec ran{};
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &ran);
    return static_cast<double>(ran.tv_sec) * 1e3 + static_cast<double>(ran.tv_nsec) * 1e-6;
}

}  // namespace

bool WatchedApplication::notify(QObject* receiver, QEvent* event) {
    QElapsedTimer timer;
    timer.start();
    const double ranBefore = ownMs();
    ++depth_;
    const bool done = QApplication::notify(receiver, event);
    if (--depth_ == 0) {
        longest_ = std::max(longest_, msOf(timer));
        longestOwn_ = std::max(longestOwn_, ownMs() - ranBefore);
    }
    return done;
}

WatchedApplication& watched() { return *static_cast<WatchedApplication*>(qApp); }

Opened openWindow(const std::string& file, const fugato::OpenOptions& options) {
    Opened opened;
    opened.window = std::make_unique<fugato::MainWindow>();
    opened.window->resize(1280, 800);
    opened.window->show();
    QApplication::processEvents();
    fugato::Document& document = opened.window->document();
    document.openOptions() = options;
    QElapsedTimer timer;
    QObject::connect(&opened.window->lanes(), &fugato::LanesView::painted, opened.window.get(), [&] {
        if (opened.firstPicture == 0 && document.recording()) opened.firstPicture = msOf(timer);
    });
    const auto whole = [&] {
        if (opened.read == 0 && !document.reading()) opened.read = msOf(timer);
    };
    QObject::connect(&document, &fugato::Document::recordingChanged, opened.window.get(), whole);
    QObject::connect(&document, &fugato::Document::recordingGrew, opened.window.get(), whole);
    QSignalSpy explained(&document, &fugato::Document::explanationChanged);
    timer.start();
    watched().longestBlock();
    opened.window->open(QString::fromStdString(file));
    explained.wait(300'000);
    opened.explained = msOf(timer);
    QApplication::processEvents();
    opened.block = watched().longestBlock();
    // What is measured next must not hear of it any more.
    QObject::disconnect(&opened.window->lanes(), &fugato::LanesView::painted, opened.window.get(), nullptr);
    QObject::disconnect(&document, &fugato::Document::recordingChanged, opened.window.get(), nullptr);
    QObject::disconnect(&document, &fugato::Document::recordingGrew, opened.window.get(), nullptr);
    return opened;
}

double repaint99(fugato::MainWindow& window) {
    constexpr int kViews = 600, kRounds = 8;
    std::vector<double> quickest(kViews, 1e18);
    QImage canvas(1280, 800, QImage::Format_ARGB32_Premultiplied);
    auto& selection = window.selection();
    const int64_t begin = window.document().recording()->begin, end = window.document().recording()->end;
    for (int round = 0; round < kRounds; ++round) {
        std::mt19937 random(4);
        for (int i = 0; i < kViews; ++i) {
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
            quickest[static_cast<size_t>(i)] = std::min(quickest[static_cast<size_t>(i)], msOf(timer));
            QApplication::processEvents();  // what had to be read comes
        }
    }
    std::sort(quickest.begin(), quickest.end());
    return quickest[quickest.size() * 99 / 100];
}

double useEveryPanel(fugato::MainWindow& window, const QString& words) {
    constexpr int kSpikes = 20, kZooms = 16, kPlaces = 12;
    fugato::LanesView& lanes = window.lanes();
    const auto settle = [&] {
        do QApplication::processEvents(QEventLoop::AllEvents, 20);
        while (window.asking() || window.drawer().busy());
    };
    const auto key = [&](Qt::Key which, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        QTest::keyClick(&lanes, which, modifiers);
        settle();
    };
    const auto hover = [&] {
        for (int i = 0; i < kPlaces; ++i) {
            const QRect area = lanes.viewport()->rect();
            const QPoint at(area.width() * (i + 1) / (kPlaces + 1), area.height() * (i % 4 + 1) / 5);
            QHelpEvent help(QEvent::ToolTip, at, lanes.viewport()->mapToGlobal(at));
            QApplication::sendEvent(lanes.viewport(), &help);
            settle();
        }
    };
    watched().longestBlock();
    for (int i = 0; i < kSpikes; ++i) key(Qt::Key_N);
    key(Qt::Key_F);
    hover();
    key(Qt::Key_Home);
    hover();
    for (int page = 0; page < window.drawer().pages().size(); ++page) {
        key(static_cast<Qt::Key>(Qt::Key_1 + page), Qt::ControlModifier);
        key(Qt::Key_N);
    }
    for (int i = 0; i < kZooms; ++i) key(Qt::Key_Plus);
    for (int i = 0; i < kZooms; ++i) key(i % 2 ? Qt::Key_Left : Qt::Key_Right);
    key(Qt::Key_S);
    for (int i = 0; i < kZooms; ++i) key(Qt::Key_Minus);
    QLineEdit& find = window.verdict().find();
    find.setFocus();
    QTest::keyClicks(&find, words);
    QTest::keyClick(&find, Qt::Key_Return);
    settle();
    window.drawer().show("marker");
    settle();
    return watched().longestBlock();
}

}  // namespace measure
