// SPDX-License-Identifier: GPL-3.0-or-later
//
// Views saved as pictures from the real window: PNG as shown and larger, SVG.
#include <QFileInfo>
#include <QRegularExpression>
#include <QScrollBar>
#include <QSet>
#include <QStatusBar>
#include <QSvgRenderer>

#include "app/pictures/picture_dialog.h"
#include "app/scope/scope_bar.h"
#include "app/strip/overrun_strip.h"
#include "app/theme/theme.h"
#include "window_test.h"

namespace fugato {

class PicturesAppTest : public WindowTest {
    Q_OBJECT

    ViewPicture view(const QString& id) {
        for (const ViewPicture& one : window_->views())
            if (one.id == id) return one;
        qFatal("no such view");
    }
    /// Saves a view; returns what was said about it.
    QString save(const QString& id, double factor, const QString& path) {
        QString why = "not done";
        bool done = false;
        saveViewPicture(view(id), factor, path, [&](const QString& said) {
            why = said;
            done = true;
        });
        [&] { EVENTUALLY(done); }();
        return why;
    }

private slots:
    void aViewIsSavedByKeyboard() {
        openDemo();
        const QString path = folder_.filePath("lanes.png");
        inDialog<PictureDialog>([&](PictureDialog& dialog) {
            QCOMPARE(dialog.view().currentData().toString(), QString("lanes"));
            QVERIFY(dialog.factor().itemText(1).startsWith("twice: "));
            dialog.factor().setCurrentIndex(1);
            dialog.path().setFocus();
            dialog.path().selectAll();
            QTest::keyClicks(&dialog.path(), folder_.filePath("lanes.txt"));
            QVERIFY(!dialog.save().isEnabled());
            dialog.path().selectAll();
            QTest::keyClicks(&dialog.path(), path);
            QVERIFY(dialog.save().isEnabled());
            QTest::keyClick(&dialog.path(), Qt::Key_Return);
        });
        key(Qt::Key_P, Qt::ControlModifier | Qt::ShiftModifier);
        EVENTUALLY(window_->statusBar()->currentMessage().startsWith("Saved as "));
        const QImage image(path);
        QCOMPARE(image.size(), window_->lanes().viewport()->size() * 2);
        QVERIFY(pixelsLike(image, theme().plum) > 500);
        QVERIFY(pixelsLike(image, theme().path) > 200);
    }

    void everyViewIsAPictureAndSharp() {
        openDemo();
        for (const ViewPicture& one : window_->views()) {
            const QString path = folder_.filePath(one.id + ".png");
            QCOMPARE(save(one.id, 2, path), QString());
            const QImage image(path);
            QCOMPARE(image.size(), one.size * 2);
            // Drawn again, not stretched: neighbours differ somewhere at odd places.
            int differ = 0;
            for (int y = 0; y + 1 < image.height(); y += 2)
                for (int x = 0; x + 1 < image.width(); x += 2) differ += image.pixel(x, y) != image.pixel(x + 1, y);
            QVERIFY2(differ > 100, qPrintable(one.id));
        }
    }

    void allLanesAreOneWithoutScrolling() {
        openDemo();
        const ViewPicture all = view("all-lanes");
        QCOMPARE(all.size.height(), window_->lanes().picture().height() + LanePicture::kHeaderHeight);
        QVERIFY(all.size.height() > window_->lanes().viewport()->height());
        const QString path = folder_.filePath("all.png");
        QCOMPARE(save("all-lanes", 1, path), QString());
        QCOMPARE(QImage(path).size(), all.size);
    }

    void anSvgHoldsShapesAndWords() {
        openDemo();
        const QString path = folder_.filePath("lanes.svg");
        QCOMPARE(save("lanes", 1, path), QString());
        QFile file(path);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray text = file.readAll();
        QVERIFY(text.contains("<svg") && text.contains(">Spray<") && text.contains("GPU graphics"));
        QSvgRenderer svg(text);
        QVERIFY(svg.isValid());
        QImage image(window_->lanes().viewport()->size(), QImage::Format_RGB32);
        image.fill(Qt::white);
        QPainter painter(&image);
        svg.render(&painter);
        painter.end();
        QVERIFY(pixelsLike(image, theme().plum) > 100);
        // Nothing of a lane that is scrolled lies over the ruler.
        window_->lanes().verticalScrollBar()->setValue(30);
        QCOMPARE(save("lanes", 1, path), QString());
        QSvgRenderer scrolled(path);
        QImage other(image.size(), QImage::Format_RGB32);
        other.fill(Qt::white);
        QPainter again(&other);
        scrolled.render(&again);
        again.end();
        const QRect ruler(120, 2, 500, 12);
        QVERIFY(image.copy(ruler) == other.copy(ruler));
    }

    void inAnSvgOfTheWindowEachPartIsCutAtItsEdges() {
        openDemo();
        const QString path = folder_.filePath("window.svg");
        QCOMPARE(save("window", 1, path), QString());
        QFile file(path);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray text = file.readAll();
        QVERIFY(QSvgRenderer(text).isValid());
        // Every name is there once, and what is named is there.
        static const QRegularExpression named("id=\"([^\"]+)\""), used("url\\(#([^)]+)\\)");
        QSet<QString> names;
        for (auto at = named.globalMatch(QString::fromUtf8(text)); at.hasNext();) {
            const QString name = at.next().captured(1);
            QVERIFY2(!names.contains(name), qPrintable(name));
            names << name;
        }
        for (auto at = used.globalMatch(QString::fromUtf8(text)); at.hasNext();) {
            const QString name = at.next().captured(1);
            QVERIFY2(names.contains(name), qPrintable(name));
        }
        const QRect lanes(window_->lanes().viewport()->mapTo(window_.get(), QPoint()),
                          window_->lanes().viewport()->size());
        QVERIFY(text.contains(QString("<rect x=\"%1\" y=\"%2\" width=\"%3\" height=\"%4\"/></clipPath>")
                                  .arg(lanes.x())
                                  .arg(lanes.y())
                                  .arg(lanes.width())
                                  .arg(lanes.height())
                                  .toUtf8()));
        QVERIFY(text.contains(">Spray<") && text.contains(">Causes<"));
    }

    void whatCannotBeIsSaid() {
        openDemo();
        const QString nowhere = folder_.filePath("no/such/folder/lanes.png");
        QVERIFY(save("lanes", 1, nowhere).contains("could not be written"));
        ViewPicture huge = view("lanes");
        huge.size = QSize(20'000, 20'000);
        QString said;
        saveViewPicture(huge, 4, folder_.filePath("huge.png"), [&](const QString& why) { said = why; });
        QVERIFY(said.contains("is too large"));
        QVERIFY(!QFileInfo::exists(folder_.filePath("huge.png")));
    }

    void withoutARecordingThereIsTheWindow() {
        QCOMPARE(window_->views().size(), 1);
        // What is about a recording has no place beside the start page.
        QVERIFY(!window_->strip().isVisible() && !window_->findChild<ScopeBar*>()->isVisible());
        QCOMPARE(save("window", 1, folder_.filePath("window.png")), QString());
    }
};

}  // namespace fugato

QTEST_MAIN(fugato::PicturesAppTest)
#include "pictures_app_test.moc"
