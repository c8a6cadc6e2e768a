// SPDX-License-Identifier: GPL-3.0-or-later
//
// The application with millions of markers, driven as a person drives it: it opens, zooms, pans, finds,
// chooses and asks; and the pictures from summaries are those from every marker.
#include <fcntl.h>
#include <unistd.h>

#include <QLineEdit>
#include <QPainter>
#include <QProcess>
#include <QScrollBar>
#include <QSettings>
#include <QSignalSpy>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <QtTest>
#include <future>

#include "app/drawer/drawer.h"
#include "app/drawer/marker_page.h"
#include "app/drawer/markers_page.h"
#include "app/drawer/search_page.h"
#include "app/lanes/lanes_view.h"
#include "app/strip/overrun_strip.h"
#include "app/verdict/verdict_bar.h"
#include "app/window/main_window.h"
#include "core/ask/occurrence_table.h"
#include "core/model/recording_index.h"
#include "core/store/long_work.h"
#include "testing/children.h"
#include "testing/patience.h"
#include "testing/text_recording.h"

using namespace fugato;

namespace {

constexpr uint64_t kMarkers = kAddressSanitizer ? 2'000'000 : 10'000'000;  // enough for everything that is windowed

/// How far two pictures differ: the mean over all pixels, of 255, and the part of pixels that differ much.
struct Difference {
    double mean = 0, much = 0;
};
Difference differenceOf(const QImage& a, const QImage& b) {
    Difference d;
    for (int y = 0; y < a.height(); ++y)
        for (int x = 0; x < a.width(); ++x) {
            const QRgb p = a.pixel(x, y), q = b.pixel(x, y);
            const int by =
                std::max({std::abs(qRed(p) - qRed(q)), std::abs(qGreen(p) - qGreen(q)), std::abs(qBlue(p) - qBlue(q))});
            d.mean += by;
            d.much += by > 48;
        }
    const double pixels = double(a.width()) * a.height();
    return {d.mean / pixels, d.much / pixels};
}

QImage painted(LanePicture& picture, int64_t begin, int64_t end, int scrolled, bool exact) {
    QImage image(1100, 700, QImage::Format_RGB32);
    picture.setView(begin, end);
    picture.setAllExact(exact);
    QPainter painter(&image);
    picture.paint(painter, image.rect(), scrolled);
    return image;
}

}  // namespace

class ScaleAppTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    std::string file_;
    std::unique_ptr<MainWindow> window_;

    Selection& selection() { return window_->selection(); }
    const Recording& recording() { return *window_->document().recording(); }
    void settle() {
        QTest::qWait(1);
        EVENTUALLY(!window_->drawer().busy());
    }
    int rowsOf(QTreeView& tree) { return tree.model()->rowCount(); }
    void find(const QString& words) {
        QLineEdit& field = window_->verdict().find();
        QTest::keyClick(window_.get(), Qt::Key_F, Qt::ControlModifier);
        field.setFocus();
        field.selectAll();
        QTest::keyClicks(&field, words);
        QTest::keyClick(&field, Qt::Key_Return);
        settle();
    }
    OpenOptions options() const {
        OpenOptions options;
        options.indexFolder = folder_.filePath("indexes").toStdString();
        options.indexFromBytes = 1 << 20;
        return options;
    }

private slots:
    void initTestCase() {
        QStandardPaths::setTestModeEnabled(true);
        QCoreApplication::setOrganizationName("Fugato");
        QCoreApplication::setApplicationName("fugato-scale-test");
        settings::clearAll();
        file_ = folder_.filePath("large.fugato").toStdString();
        QProcess process;
        process.start(SKERRY_PROGRAM, {"--scale", QString::number(kMarkers), "--out", QString::fromStdString(file_)});
        QVERIFY(process.waitForFinished(kPatience) && process.exitCode() == 0);
        keepThreadQuick();
    }
    void cleanup() { QCOMPARE(longWorkOnQuickThreads(), std::vector<std::string>()); }

    void itIsShownWhileItIsReadAndCanBeWorkedWith() {
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->document().openOptions() = options();
        window_->show();
        QSignalSpy changed(&window_->document(), &Document::recordingChanged),
            grew(&window_->document(), &Document::recordingGrew),
            explained(&window_->document(), &Document::explanationChanged);
        window_->open(QString::fromStdString(file_));
        QVERIFY(changed.wait(kPatience));
        QVERIFY(window_->document().reading());
        QCOMPARE(int(recording().lanes.size()), 30);
        QVERIFY(!window_->lanes().grab().toImage().isNull());
        // Somebody works with it already: what they look at stays where it is.
        const int64_t middle = (recording().begin + recording().end) / 2;
        selection().showSpan(middle, middle + 1'000'000'000, true);
        const View view = selection().view();
        QVERIFY(explained.wait(kPatience));
        QVERIFY(grew.size() >= 2);
        QVERIFY(!window_->document().reading());
        QVERIFY(recording().markerCount() >= kMarkers);
        QCOMPARE(selection().view().begin, view.begin);
        QCOMPARE(selection().view().end, view.end);
        QVERIFY(!window_->document().explanation()->causes.empty());
        QCOMPARE(selection().cause(), 0u);  // named all the same
    }

    void aSecondOpeningShowsItAtOnceWithTheCostliestCause() {
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->document().openOptions() = options();
        window_->show();
        QSignalSpy changed(&window_->document(), &Document::recordingChanged),
            explained(&window_->document(), &Document::explanationChanged);
        window_->open(QString::fromStdString(file_));
        QVERIFY(changed.wait(kPatience));
        QVERIFY(!window_->document().reading());
        QCOMPARE(changed.size(), qsizetype{1});
        QVERIFY(explained.wait(kPatience));
        QCOMPARE(selection().cause(), 0u);
        const Frame& frame = window_->document().explanation()->frame(selection().frame());
        QVERIFY(selection().view().begin <= frame.begin && selection().view().end >= frame.end);
    }

    void zoomAndPanFromTheWholeToSingleNanoseconds() {
        selection().showWhole();
        LanesView& lanes = window_->lanes();
        lanes.verticalScrollBar()->setValue(0);
        QWidget* viewport = lanes.viewport();
        (void)lanes.grab();
        const size_t whole = lanes.picture().markersShown();
        QVERIFY(whole > 100'000);
        int64_t before = selection().view().end - selection().view().begin;
        for (int i = 0; i < 150 && before > 20; ++i) {  // with the wheel
            QWheelEvent wheel(QPointF(500, 200), viewport->mapToGlobal(QPointF(500, 200)), {}, QPoint(0, 120),
                              Qt::NoButton, Qt::ControlModifier, Qt::NoScrollPhase, false);
            QApplication::sendEvent(viewport, &wheel);
            const int64_t now = selection().view().end - selection().view().begin;
            QVERIFY(now < before);
            before = now;
            if (i % 10 == 0) (void)lanes.grab();
        }
        QCOMPARE(before, int64_t{20});
        const int64_t from = selection().view().begin;
        QTest::keyClick(&lanes, Qt::Key_Right, Qt::ShiftModifier);
        QCOMPARE(selection().view().begin, from + 3);  // a nanosecond is told from the next
        QTest::keyClick(&lanes, Qt::Key_Left, Qt::ShiftModifier);
        QCOMPARE(selection().view().begin, from);
        QTest::keyClick(window_.get(), Qt::Key_Home);
        QCOMPARE(selection().view().begin, recording().begin);
        QCOMPARE(selection().view().end, recording().end);
    }

    void searchingAMarkerTellsItsFigures() {
        find("splash");
        QCOMPARE(window_->drawer().shown(), QString("search"));
        QVERIFY2(window_->drawer().page<SearchPage>().about().contains("1 marker"),
                 qPrintable(window_->drawer().page<SearchPage>().about()));
        for (int i = 0; i < 2; ++i) QTest::keyClick(window_.get(), Qt::Key_1, Qt::ControlModifier);  // Markers, Marker
        QCOMPARE(window_->drawer().shown(), QString("marker"));
        settle();
        MarkerPage& page = window_->drawer().page<MarkerPage>();
        QCOMPARE(page.title(), QString("Splash drop"));
        uint64_t count = 0;
        const uint32_t spray = laneNamed(recording(), "spray");
        for (const MarkerRow& row : recording().lanes[spray].rows) count += row.size();
        EVENTUALLY(page.statistics());
        QCOMPARE(page.statistics()->count, count);
        QVERIFY2(page.figures().contains("100 a frame"), qPrintable(page.figures()));
        // All of them, of which those in sight are at hand, sorted where they lie.
        TableView& view = page.view();
        EVENTUALLY_EQUAL(uint64_t(view.whole()->rowLimit()), count);
        QVERIFY(uint64_t(rowsOf(view)) < count);
        EVENTUALLY(!page.busy());
        QCOMPARE(std::get<int64_t>(view.table()->value(0, kOccurrenceDuration)), page.statistics()->longest);
        view.sortByColumn(kOccurrenceDuration, Qt::AscendingOrder);
        EVENTUALLY(!page.busy());
        QCOMPARE(std::get<int64_t>(view.table()->value(0, kOccurrenceDuration)), page.statistics()->shortest);
        view.sortByColumn(kOccurrenceArguments, Qt::AscendingOrder);  // of so many the first, and that is told
        EVENTUALLY(!page.busy() && view.whole()->leftOut());
        QVERIFY2(page.about().contains("in this order"), qPrintable(page.about()));
        QCOMPARE(view.whole()->rowLimit() + view.whole()->leftOut(), count);
        view.sortByColumn(kOccurrenceDuration, Qt::DescendingOrder);
        EVENTUALLY(!page.busy());
        // What is selected elsewhere is chosen in it, wherever that stands.
        const uint32_t middle = recording().lanes[spray].rows[0].size() / 2;
        selection().lookAtMarker({spray, 0, middle});
        EVENTUALLY(!page.busy() && view.currentIndex().isValid() &&
                   view.table()->place(TableModel::rowOf(view.currentIndex())).marker == selection().marker());
        page.filter().setText("no such letters");
        EVENTUALLY(!page.busy() && view.table() && view.table()->rowLimit() == 0);
        page.filter().clear();
        EVENTUALLY(!page.busy() && view.whole() && uint64_t(view.whole()->rowLimit()) == count);
        // A click on the longest brings it into view and chooses it.
        view.showRow(0);
        EVENTUALLY(!page.busy() && view.firstRow() == 0);
        const QModelIndex first = page.view().model()->index(0, 0);
        QTest::mouseClick(page.view().viewport(), Qt::LeftButton, {}, page.view().visualRect(first).center());
        QVERIFY(selection().marker().valid());
        const MarkerRow& row = recording().lanes[selection().marker().lane].rows[selection().marker().row];
        QCOMPARE(row.duration(selection().marker().index), page.statistics()->longest);
        emit page.view().activated(first);
        QVERIFY(selection().view().begin <= row.begin(selection().marker().index) &&
                selection().view().end >= row.end(selection().marker().index));
    }

    void searchingAnArgumentLeadsToItsOccurrence() {
        find("course=twice");
        SearchPage& page = window_->drawer().page<SearchPage>();
        QVERIFY2(page.about().contains("arguments"), qPrintable(page.about()));
        QAbstractItemModel* model = page.view().model();
        const QModelIndex first = model->index(0, 0);
        QVERIFY(first.data().toString().contains("inner sound, twice round"));
        emit page.view().clicked(first);
        QVERIFY(selection().marker().valid());
        QCOMPARE(recording().nameOf(recording().pathOf(selection().marker())), std::string("Race frame"));
        find("no such thing at all");
        QVERIFY(page.about().startsWith("Nothing"));
        QCOMPARE(model->rowCount(), 0);
        find("123");
        QCOMPARE(selection().frame(), 123u);
    }

    void draggingWithShiftSelectsTimeAndItsTable() {
        selection().showSpan(recording().begin, recording().begin + 2'000'000'000, true);
        QWidget* viewport = window_->lanes().viewport();
        const QRect area = viewport->rect();
        QTest::mousePress(viewport, Qt::LeftButton, Qt::ShiftModifier, {250, 150});
        QTest::mouseMove(viewport, {300, 150});
        QMouseEvent move(QEvent::MouseMove, QPointF(450, 160), viewport->mapToGlobal(QPointF(450, 160)), Qt::NoButton,
                         Qt::LeftButton, Qt::ShiftModifier);
        QApplication::sendEvent(viewport, &move);
        QTest::mouseRelease(viewport, Qt::LeftButton, Qt::ShiftModifier, {450, 160});
        QVERIFY(selection().range());
        QCOMPARE(selection().range()->begin, window_->lanes().picture().timeAt(area, 250));
        QCOMPARE(selection().range()->end, window_->lanes().picture().timeAt(area, 450));
        QCOMPARE(selection().view().begin, recording().begin);  // nothing was dragged along
        QCOMPARE(window_->drawer().shown(), QString("markers"));
        MarkersPage& page = window_->drawer().page<MarkersPage>();
        EVENTUALLY(page.title().endsWith(" selected") && !page.busy());
        EVENTUALLY(rowsOf(page.view()) > 5);
        // Not on this thread, which is the window's.
        const auto table =
            std::async(std::launch::async, [this] { return nestedMarkers(recording(), *selection().range()); }).get();
        QCOMPARE(rowsOf(page.view()), int(table->lanes.size()));
        // The marker page tells of it too, once it is not held to the whole recording.
        window_->drawer().show("marker");
        settle();
        QTest::mouseClick(window_->drawer().page<MarkerPage>().holdButton(), Qt::LeftButton);
        settle();
        EVENTUALLY(window_->drawer().page<MarkerPage>().statistics() &&
                   window_->drawer().page<MarkerPage>().statistics()->scope == Scope(*selection().range()));
        QTest::keyClick(window_.get(), Qt::Key_S);
        QVERIFY(!selection().range());
        QTest::keyClick(window_.get(), Qt::Key_S);
        QCOMPARE(selection().range()->begin, selection().view().begin);
        QTest::keyClick(window_.get(), Qt::Key_S);
        window_->drawer().show("markers");
        settle();
        QVERIFY(selection().scope().of == usualScope(recording()).of);
    }

    void veryDeepLanesAreFoldedUntilTheyAreClicked() {
        const uint32_t route = laneNamed(recording(), "route");
        LanesView& lanes = window_->lanes();
        lanes.setGathering(false);
        selection().showWhole();
        QVERIFY(lanes.picture().folded(route));
        const int folded = lanes.picture().height();
        lanes.showLane(route);
        const QRect fold = lanes.picture().foldRect(lanes.viewport()->rect(), lanes.scrolled(), route);
        QVERIFY(lanes.viewport()->rect().contains(fold.center()));
        QTest::mouseClick(lanes.viewport(), Qt::LeftButton, {}, fold.center());
        QVERIFY(!lanes.picture().folded(route));
        QVERIFY(lanes.picture().height() > folded + 800 * LanePicture::kRowHeight);
        (void)lanes.grab();
        // The same line folds them again, wherever the lane stands now.
        const QRect other = lanes.picture().foldRect(lanes.viewport()->rect(), 0, route);
        lanes.verticalScrollBar()->setValue(other.top() - lanes.viewport()->height() / 2);
        const QRect again = lanes.picture().foldRect(lanes.viewport()->rect(), lanes.scrolled(), route);
        QTest::mouseClick(lanes.viewport(), Qt::LeftButton, {}, again.center());
        QCOMPARE(lanes.picture().height(), folded);
        lanes.setGathering(true);
    }

    void picturesFromSummariesAreThoseFromEveryMarker() {
        LanePicture picture;
        picture.setRecording(window_->document().recording());
        const Recording& r = recording();
        std::mt19937_64 random(5);
        int compared = 0;
        for (const double part : {1.0, 0.4, 0.1, 0.03, 0.01, 0.002, 0.0003, 1e-6}) {
            const auto length = std::max<int64_t>(100, int64_t(double(r.end - r.begin) * part));
            const int64_t begin = r.begin + int64_t(random() % uint64_t(r.end - r.begin - length + 1));
            for (const int scrolled : {0, 500, 2500}) {
                const QImage quick = painted(picture, begin, begin + length, scrolled, false),
                             exact = painted(picture, begin, begin + length, scrolled, true);
                const Difference difference = differenceOf(quick, exact);
                QVERIFY2(
                    difference.mean < 1.5 && difference.much < 0.005,
                    qPrintable(
                        QString("%1 of it: mean %2, much %3").arg(part).arg(difference.mean).arg(difference.much)));
                if (part < 0.001) QVERIFY(quick == exact);  // nothing is rounded so near
                ++compared;
            }
        }
        QCOMPARE(compared, 24);
    }

    void whatLiesOnASlowDiskIsDrawnRoughlyFirstAndThenExactly() {
        const std::string index = indexPathFor(options().indexFolder, file_);
        const auto r = *std::async(std::launch::async, [this] { return openRecording(file_, {}, options()); }).get();
        const int fd = ::open(index.c_str(), O_RDONLY);
        QVERIFY(fd >= 0);
        ::fdatasync(fd);
        LanePicture picture;
        picture.setRecording(r);
        const uint32_t spray = laneNamed(*r, "spray");
        const MarkerRow& row = r->lanes[spray].rows[0];
        const int64_t begin = row.begin(row.size() / 2);
        const int scrolled = 0;
        // Only the columns of what is looked at are forgotten by the system.
        window_.reset();
        (void)row.resident(0, row.size());
        ::posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
        ::close(fd);
        const QImage rough = painted(picture, begin, begin + 30'000'000, scrolled, false);
        const auto missing = picture.missing();
        if (missing.empty()) QSKIP("this disk keeps everything in memory");
        for (const LanePicture::Missing& part : missing) r->lanes[part.lane].rows[part.row].fetch(part.from, part.to);
        const QImage exact = painted(picture, begin, begin + 30'000'000, scrolled, false);
        QVERIFY(picture.missing().empty());
        QVERIFY(exact == painted(picture, begin, begin + 30'000'000, scrolled, true));
        QVERIFY(rough != exact);
    }

    void aDamagedIndexIsMadeAnewUnderTheWindow() {
        window_.reset();
        const std::string index = indexPathFor(options().indexFolder, file_);
        QFile bytes(QString::fromStdString(index));
        QVERIFY(bytes.open(QIODevice::ReadWrite));
        for (qint64 at = 1 << 20; at + (1 << 20) < bytes.size(); at += 3 << 20) {  // in the markers' columns and lists
            bytes.seek(at);
            char byte = 0;
            bytes.peek(&byte, 1);
            bytes.putChar(char(byte ^ 0x55));
        }
        bytes.close();
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->document().openOptions() = options();
        window_->show();
        window_->open(QString::fromStdString(file_));
        const auto whole = [&] {  // whatever was shown meanwhile, it ends with an index that is good throughout
            const auto kept = loadIndex(index, stateOfFile(file_));
            return kept && kept->storage->check(0, kept->storage->size());
        };
        EVENTUALLY(window_->document().explanation() && !window_->document().busy());
        for (int i = 0; i < 20; ++i) {  // looking everywhere finds what is damaged
            const int64_t span = (recording().end - recording().begin) / 20;
            selection().showSpan(recording().begin + i * span, recording().begin + (i + 1) * span, true);
            (void)window_->lanes().grab();
        }
        EVENTUALLY(whole() && !recording().storage->damaged() && !window_->document().busy());
        QVERIFY(recording().markerCount() >= kMarkers);
    }

    void openingCanBeCancelledInTheMiddle() {
        QTemporaryDir fresh;
        window_ = std::make_unique<MainWindow>();
        window_->document().openOptions() = options();
        window_->document().openOptions().indexFolder = fresh.filePath("indexes").toStdString();
        window_->show();
        QSignalSpy changed(&window_->document(), &Document::recordingChanged),
            cancelled(&window_->document(), &Document::cancelled);
        window_->open(QString::fromStdString(file_));
        QVERIFY(changed.wait(kPatience));
        window_->document().cancel();
        QCOMPARE(cancelled.size(), qsizetype{1});
        QVERIFY(!window_->document().busy());
        QVERIFY(window_->document().whyUnexplained().startsWith("Reading was cancelled"));
        QVERIFY(!window_->lanes().grab().isNull());
    }

    void cleanupTestCase() { window_.reset(); }
};

QTEST_MAIN(ScaleAppTest)
#include "scale_app_test.moc"
