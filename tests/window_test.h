// SPDX-License-Identifier: GPL-3.0-or-later
//
// Tests of the real window: each case has a new one, as after a first start, and a folder for its files. After each it
// is checked that nothing that may take long was begun on the interface thread.
#pragma once

#include <QDialog>
#include <QFileInfo>
#include <QLabel>
#include <QProcess>
#include <QSettings>
#include <QSignalSpy>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <QTimer>
#include <QtTest>

#include "app/drawer/drawer.h"
#include "app/lanes/lanes_view.h"
#include "app/settings/stored_values.h"
#include "app/verdict/verdict_bar.h"
#include "app/window/main_window.h"
#include "core/store/long_work.h"
#include "testing/patience.h"

namespace fugato {

/// The colours of a picture that are close to plum or to the blue of the critical path, counted.
inline int pixelsLike(const QImage& image, const QColor& color) {
    int count = 0;
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            const QColor p = image.pixelColor(x, y);
            count += std::abs(p.red() - color.red()) + std::abs(p.green() - color.green()) +
                         std::abs(p.blue() - color.blue()) <
                     12;
        }
    return count;
}

class WindowTest : public QObject {
    Q_OBJECT
protected:
    std::unique_ptr<MainWindow> window_;
    QTemporaryDir folder_;

    Selection& selection() { return window_->selection(); }
    const Explanation& explanation() { return *window_->document().explanation(); }
    void key(Qt::Key which, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        QTest::keyClick(&window_->lanes(), which, modifiers);
    }

    bool toldInVerdict(const QString& words) {
        const auto labels = window_->verdict().findChildren<QLabel*>();
        return std::any_of(labels.begin(), labels.end(), [&](QLabel* label) { return label->text() == words; });
    }
    void openDemo() {
        QSignalSpy explained(&window_->document(), &Document::explanationChanged);
        window_->open(FUGATO_DEMO_RECORDING);
        QVERIFY(explained.wait(kPatience));
        QVERIFY(window_->document().explanation());
        settle();
    }
    /// A page of the drawer, by the key of its group.
    void openPage(const QString& id) {
        const Drawer& drawer = window_->drawer();
        const auto wanted = std::find_if(drawer.pages().begin(), drawer.pages().end(),
                                         [&](const DrawerPage* page) { return page->words().id == id; });
        const auto group = drawer.groups().indexOf((*wanted)->words().group);
        for (qsizetype i = 0; i < drawer.pages().size() && drawer.shown() != id; ++i)
            key(static_cast<Qt::Key>(Qt::Key_1 + group), Qt::ControlModifier);
    }
    /// A race that goes on, in its own clock but no faster than in real time; opened while it is written.
    void openGrowing(QProcess& program, const QString& path) {
        program.start(SKERRY_PROGRAM, {"--out", path, "--seconds", "600", "--virtual", "--paced", "--detail", "1"});
        QVERIFY(program.waitForStarted());
        EVENTUALLY(QFileInfo(path).size() > 20'000);
        window_->open(path);
        EVENTUALLY(window_->document().explanation());
    }
    /// Waits for what is worked out on other threads.
    void settle() { EVENTUALLY(!window_->asking()); }
    QString write(const char* name, const QByteArray& bytes) {
        const QString path = folder_.filePath(name);
        QFile file(path);
        if (file.open(QIODevice::WriteOnly)) file.write(bytes);
        return path;
    }
    /// Opens a file and waits until it is explained, its selected frame too, or refused.
    void open(const QString& path) {
        QSignalSpy explained(&window_->document(), &Document::explanationChanged),
            failed(&window_->document(), &Document::failed);
        window_->open(path);
        EVENTUALLY(explained.count() + failed.count() > 0);
        settle();
    }
    /// What `act` does with the dialog that the next input opens, once the keyboard is there: a key before that would
    /// be typed into a field that is then selected whole, and lost at the next.
    template <class Dialog = QDialog, class Act>
    void inDialog(Act act) {
        auto* waiting = new QTimer(this);
        connect(waiting, &QTimer::timeout, this, [waiting, act] {
            auto* dialog = qobject_cast<Dialog*>(QApplication::activeModalWidget());
            if (!dialog || !dialog->isActiveWindow()) return;
            waiting->deleteLater();
            waiting->stop();
            act(*dialog);
        });
        waiting->start(20);
    }
    /// The middle of a marker of the chosen frame, in the lanes' viewport.
    QPoint placeOf(const MarkerRef& marker) {
        LanesView& lanes = window_->lanes();
        return lanes.picture().markerRect(lanes.viewport()->rect(), lanes.scrolled(), marker).center();
    }

private slots:
    void initTestCase() {
        QStandardPaths::setTestModeEnabled(true);
        qputenv("XDG_DATA_HOME", folder_.filePath("data").toUtf8());  // the folder of recordings
        QCoreApplication::setOrganizationName("Fugato");
        QCoreApplication::setApplicationName("fugato-test");
        QSettings::setDefaultFormat(QSettings::IniFormat);
        QSettings::setPath(QSettings::IniFormat, QSettings::UserScope, folder_.path());
        keepThreadQuick();
    }
    void init() {
        settings::clearAll();
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
    }
    void cleanup() {
        window_.reset();
        // Whatever was done: nothing that may take long began on the interface thread.
        QCOMPARE(longWorkOnQuickThreads(), std::vector<std::string>());
    }
};

}  // namespace fugato
