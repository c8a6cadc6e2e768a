// SPDX-License-Identifier: GPL-3.0-or-later
//
// The strip's picture: what stands in each column, and how it is painted.
#include <QPainter>
#include <QtTest>
#include <random>

#include "app/strip/strip_picture.h"
#include "app/theme/theme.h"
#include "testing/explaining.h"

using namespace fugato;

class StripTest : public QObject {
    Q_OBJECT

private slots:
    void init() { applyTheme(false, false); }

    void stripColumnsHoldEveryFrameOnceAndTheWorstOfEach() {
        const auto e = explained(sixtyFrames());
        for (const int width : {1, 7, 60, 1200}) {
            StripPicture picture;
            picture.layOut(e, width);
            uint32_t next = 0;
            for (const auto& column : picture.columns()) {
                if (column.first == kNone || column.goesOn) continue;
                QCOMPARE(column.first, next);
                next = column.last + 1;
                int64_t worst = 0;
                for (uint32_t f = column.first; f <= column.last; ++f) worst = std::max(worst, e->frames[f].overrun);
                QCOMPARE(column.overrun, worst);
                QCOMPARE(e->frames[column.worst].overrun, worst);
            }
            QCOMPARE(next, uint32_t(e->frames.size()));
        }
    }

    void stripColumnsOfManyFramesAreThoseOfASlowCount() {
        std::mt19937 random(5);
        TextRecording t;
        for (int i = 0; i < 5000; ++i) {
            const int at = i * 12'000, late = random() % 40 ? 0 : static_cast<int>(random() % 4000);
            t.frame(at, "main").frameEnd(at + 9'000 + static_cast<int>(random() % 900) + late, "main");
            for (unsigned k = random() % 3; k > 0; --k) {
                const char* severity = random() % 50 ? "debug" : random() % 9 ? "warning" : "error";
                t.at(at + 100 - k, "main", std::string(R"("do":"point","severity":")") + severity + "\"");
            }
        }
        const auto e = explained(t.open());
        const auto& points = e->recording->points;
        for (const int width : {1, 3, 40, 700}) {
            StripPicture picture;
            picture.layOut(e, width);
            std::vector<FrameGroup> frames(picture.columns().size());
            std::vector<size_t> gravest(frames.size(), SIZE_MAX);
            for (uint32_t i = 0; i < e->frames.size(); ++i) {
                FrameGroup& group = frames[static_cast<size_t>(picture.xAt(e->frame(i).begin))];
                group.worst == kNone ? void(group = groupOfOne(i, e->frames[i]))
                                     : group.add(groupOfOne(i, e->frames[i]));
            }
            for (size_t i = 0; i < points.size(); ++i) {
                size_t& known = gravest[static_cast<size_t>(picture.xAt(points[i].time))];
                if (known == SIZE_MAX || points[i].severity > points[known].severity) known = i;
            }
            for (size_t x = 0; x < frames.size(); ++x) {
                const StripPicture::Column& column = picture.columns()[x];
                QVERIFY(column.goesOn || static_cast<const FrameGroup&>(column) == frames[x]);
                QCOMPARE(column.point, gravest[x] == SIZE_MAX ? kNone : static_cast<uint32_t>(gravest[x]));
            }
            StripPicture chosen;
            chosen.layOut(e, width, nullptr, 0);
            picture.setCause(0, {});
            QVERIFY(picture.columns() == chosen.columns());
        }
    }

    void stripColumnsShowTheGravestPoint() {
        TextRecording t;
        t.frame(0, "main").frameEnd(5, "main");
        t.at(400, "main", R"("do":"point","severity":"info","text":"calm")");
        t.at(401, "main", R"("do":"point","severity":"error","text":"broken")");
        t.at(402, "main", R"("do":"point","severity":"debug","text":"detail")");
        t.frame(1'000, "main").frameEnd(1'005, "main");
        const auto r = t.open();
        StripPicture picture;
        picture.layOut(explained(r), 10);
        const auto& column = picture.columns()[static_cast<size_t>(picture.xAt(400'000))];
        QVERIFY(column.point != kNone);
        QCOMPARE(r->text(r->points[column.point].text), std::string_view("broken"));
    }

    void stripDrawsOverrunAboveAndHeadroomBelowTheDeadline() {
        const auto e = explained(sixtyFrames());
        StripPicture picture;
        picture.layOut(e, 600);
        QImage image(600, 100, QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, image.rect(), picture.all());
        painter.end();
        const int zero = picture.deadlineY(image.rect());
        const int late = static_cast<int>(picture.xAt(e->frame(9).begin)),
                  good = static_cast<int>(picture.xAt(e->frame(12).begin));
        QCOMPARE(image.pixelColor(late, zero - 2), theme().plum);
        QCOMPARE(image.pixelColor(good, zero + 3), theme().headroom);
        QCOMPARE(image.pixelColor(good, zero - 3), theme().paper);
        QCOMPARE(image.pixelColor(good, zero), theme().text);
    }

    void aGrowingStripIsPaintedWhereItChangedAndLooksAsIfItWereAllPaintedAnew() {
        const auto growing = std::make_shared<Recording>(*sixtyFrames());
        growing->growing = true;
        const auto e = explained(growing);
        StripPicture picture;
        picture.layOut(e, 600);
        const QRect area(0, 0, 600, 100);
        const auto whole = [&] {
            QImage image(area.size(), QImage::Format_RGB32);
            QPainter painter(&image);
            picture.paint(painter, area, picture.all());
            return image;
        };
        QImage shown = whole();
        const auto paintChanged = [&](const StripPicture& before) {
            QPainter painter(&shown);
            const StripPicture::Range range = picture.changedSince(before);
            if (!range.empty()) picture.paint(painter, area, range);
            return range;
        };
        QVERIFY2(picture.xAt(growing->end) < 100, "there is room for what is to come");
        const uint32_t lane = growing->series[0].frames[0].lane;
        int64_t at = growing->end + 10'000'000;
        std::vector<NewFrame> frames;
        const auto add = [&](int64_t ns) {
            frames.push_back({Frame{at, at + ns, 10'000'000, lane}, 0});
            at += ns + 10'000'000;
        };
        for (int i = 0; i < 700; ++i) {
            add(i == 30 ? 14'000'000 : i == 200 ? 90'000'000 : 7'000'000);
            const StripPicture before = picture;
            picture.setNewFrames(frames);
            const StripPicture::Range range = paintChanged(before);
            if (i == 30) {
                const int x = static_cast<int>(picture.xAt(frames[30].frame.begin));
                QVERIFY2(range.to - range.from < 20 && range.from <= x && x < range.to, "only the new bar");
                QCOMPARE(shown.pixelColor(x, picture.deadlineY(area) - 2), theme().plum);
            }
            QVERIFY2(shown == whole(), qPrintable(QString::number(i)));
        }
        QVERIFY2(picture.timeAt(600) >= at - 10'000'000, "it made more room");
        // Without them, and with a cause selected.
        const StripPicture before = picture;
        picture.layOut(e, 600, nullptr, 0);
        paintChanged(before);
        QVERIFY(shown == whole());
        const auto columnOf = [&](uint32_t frame) {
            return picture.columns()[static_cast<size_t>(picture.xAt(e->frame(frame).begin))];
        };
        QVERIFY(columnOf(35).ofOther != columnOf(9).ofOther);
    }

    void spikesFarBeyondAllOthersDoNotFlattenThem() {
        // Late by 2 s in frame 0, by 10 ms in frame 20, by 5 ms in frame 30.
        TextRecording t;
        const std::map<int, double> more{{0, 2'000'000}, {20, 10'000}, {30, 5000}};
        double at = 0;
        for (int f = 0; f < 40; ++f) {
            const double length = 10'000 + (more.count(f) ? more.at(f) : -2000);
            t.frame(at, "main").frameEnd(at + length, "main");
            at += length + 100'000;
        }
        const auto e = explained(t.open());
        StripPicture picture;
        picture.layOut(e, 600);
        QCOMPARE(picture.scale(), int64_t{10'000'000});
        QImage image(600, 100, QImage::Format_RGB32);
        QPainter painter(&image);
        picture.paint(painter, image.rect(), picture.all());
        painter.end();
        const int zero = picture.deadlineY(image.rect()), top = StripPicture::kLetterHeight;
        const auto colourAt = [&](uint32_t frame, double part) {
            return image.pixelColor(static_cast<int>(picture.xAt(e->frame(frame).begin)),
                                    zero - static_cast<int>(part * (zero - top)));
        };
        QCOMPARE(colourAt(20, 0.9), theme().plum);  // fills the height
        QCOMPARE(colourAt(30, 0.4), theme().plum);
        QCOMPARE(colourAt(30, 0.6), theme().paper);
        QCOMPARE(colourAt(0, 0.5), theme().plum);  // and the one beyond is broken
        QCOMPARE(colourAt(0, 0.72), theme().paper);
        QCOMPARE(colourAt(0, 0.9), theme().plum);
        // Where many are so long, they make the scale.
        TextRecording many;
        for (int f = 0; f < 40; ++f)
            many.frame(f * 9'000'000.0, "main")
                .frameEnd(f * 9'000'000.0 + (f % 4   ? 8000
                                             : f % 8 ? 15'000
                                                     : 2e6),
                          "main");
        picture.layOut(explained(many.open()), 600);
        QCOMPARE(picture.scale(), int64_t{1'990'000'000});
    }
};

QTEST_MAIN(StripTest)
#include "strip_test.moc"
