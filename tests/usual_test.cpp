// SPDX-License-Identifier: GPL-3.0-or-later
//
// What frames usually are: beside plain slow counts on random recordings, and on small ones worked out by hand.
#include "core/explain/causes/usual.h"

#include <QtTest>
#include <map>
#include <set>

#include "core/explain/causes/excess_tree.h"
#include "core/explain/words/frame_sentences.h"
#include "testing/explaining.h"
#include "testing/making.h"

using namespace fugato;

namespace {

/// The lower one of two middle values; those that are missing are 0.
template <class T>
T quantileOf(std::vector<T> values, size_t count, double part) {
    values.resize(count);
    std::sort(values.begin(), values.end());
    return values[static_cast<size_t>(part * static_cast<double>(count - 1))];
}

std::shared_ptr<const Recording> randomFrames(uint32_t seed, uint32_t events = 60) {
    Making making;
    making.seed = seed;
    making.events = 20'000;
    making.frameEvery = events;
    return making.make().recording;
}

/// `lengths` of frames in ms, 20 ms apart or more, deadline 10 ms: Frame ▸ Work.
std::shared_ptr<const Explanation> framesOf(const std::vector<double>& lengths) {
    TextRecording t;
    double at = 0;
    for (const double ms : lengths) {
        t.frame(at, "main").begin(at, "main", "Frame").mark(at + 100, at + ms * 1000 - 100, "main", "Work");
        t.end(at + ms * 1000, "main").frameEnd(at + ms * 1000, "main");
        at += std::max(20.0, ms) * 1000;
    }
    return explained(t.open());
}

}  // namespace

class UsualTest : public QObject {
    Q_OBJECT

private slots:
    // ---- beside plain counts ------------------------------------------------------------------------------

    void medianAndHighOfEachPartAreThoseOfAPlainCount() {
        for (uint32_t seed = 1; seed <= 4; ++seed) {
            const auto r = randomFrames(seed);
            const auto e = explained(r);
            QVERIFY(e->frames.size() > 100 && e->figures.over > 3);
            QCOMPARE(e->baselines.size(), size_t{1});
            const Baseline& baseline = e->baselines[0];
            std::vector<std::vector<int64_t>> times(e->pathSums->keys.size());
            std::vector<std::vector<uint32_t>> calls(e->pathSums->places.size());
            size_t good = 0;
            for (uint32_t f = 0; f < e->frames.size(); ++f) {
                if (e->frames[f].overrun) continue;
                ++good;
                for (const Part& part : e->pathSums->partsOf(f)) times[part.key].push_back(part.ns);
                for (const Calls& call : e->pathSums->callsOf(f)) calls[call.place].push_back(call.count);
            }
            QCOMPARE(baseline.frames, good);
            int64_t total = 0;
            for (uint32_t key = 0; key < times.size(); ++key) {
                QCOMPARE(baseline.usual[key], quantileOf(times[key], good, 0.5));
                QCOMPARE(baseline.high[key], quantileOf(times[key], good, 0.95));
                total += baseline.usual[key];
                const bool listed = std::binary_search(baseline.usualKeys.begin(), baseline.usualKeys.end(), key);
                QCOMPARE(listed, baseline.usual[key] > 0);
            }
            QCOMPARE(baseline.total, total);
            for (uint32_t place = 0; place < calls.size(); ++place)
                QCOMPARE(baseline.usualCalls[place], double(quantileOf(calls[place], good, 0.5)));
        }
    }

    void excessesAddUpToWhatAFrameTookLonger() {
        for (uint32_t seed = 5; seed <= 8; ++seed) {
            const auto e = explained(randomFrames(seed));
            for (uint32_t f = 0; f < e->frames.size(); ++f) {
                const auto parts = e->excessOf(f);
                int64_t sum = 0;
                std::set<std::tuple<uint32_t, PathId, int, uint32_t, PathId, CoreHolder>> keys;
                for (size_t i = 0; i < parts.size(); ++i) {
                    sum += parts[i].excess();
                    if (i) QVERIFY(parts[i - 1].excess() >= parts[i].excess());
                    const PartKey& k = parts[i].key;
                    QVERIFY(keys.emplace(k.group, k.path, int(k.kind), k.object, k.holder, k.coreHolder).second);
                }
                QCOMPARE(sum, e->frame(f).duration() - e->usualOf(f));
            }
        }
    }

    void whatOccursElsewhereIsThatOfAPlainCount() {
        const auto r = randomFrames(9, 40);
        const auto e = explained(r);
        const auto& sample = e->baselines[0].sample;
        QVERIFY(sample.size() > 20 && sample.size() <= kSampleFrames);
        struct Count {
            std::vector<uint32_t> calls = std::vector<uint32_t>(kSampleFrames);
            int64_t ns = 0;
            size_t number = 0;
        };
        std::map<std::pair<uint32_t, PathId>, Count> counts;
        for (size_t i = 0; i < sample.size(); ++i) {
            const Frame& frame = e->frame(sample[i]);
            const int64_t soon = frame.begin + 2 * std::max(frame.duration(), e->frames[sample[i]].deadline);
            const bool next = sample[i] + 1 < e->frames.size() && e->frame(sample[i] + 1).begin < soon;
            const int64_t end = next ? std::max(frame.end, e->frame(sample[i] + 1).begin) : frame.end;
            for (const Lane& lane : r->lanes)
                for (const MarkerRow& row : lane.rows)
                    for (uint32_t m = 0; m < row.size(); ++m) {
                        const bool empty = row.duration(m) == 0 && row.begin(m) >= frame.begin && row.begin(m) < end;
                        if (!empty && (row.end(m) <= frame.begin || row.begin(m) >= end)) continue;
                        Count& count = counts[{lane.group, row.path(m)}];
                        ++count.calls[i];
                        count.ns += row.duration(m);
                        ++count.number;
                    }
        }
        QVERIFY(counts.size() > 50);
        for (const auto& [of, count] : counts) {
            const UsualOccurrence usual = e->occurrences->of(*e, 0, of.first, of.second);
            uint64_t present = 0;
            for (size_t i = 0; i < sample.size(); ++i) present |= uint64_t{count.calls[i] > 0} << i;
            QCOMPARE(usual.presentIn, present);
            QCOMPARE(usual.calls, double(quantileOf(count.calls, sample.size(), 0.5)));
            QCOMPARE(usual.mostCalls, double(quantileOf(count.calls, sample.size(), 0.95)));
            QVERIFY(std::abs(usual.meanNs - double(count.ns) / double(count.number)) < 1e-6);
        }
        QCOMPARE(e->occurrences->of(*e, 0, 99, 1).presentIn, uint64_t{0});
        QCOMPARE(e->occurrences->of(*e, 0, 0, 0).meanNs, 0.0);
    }

    void figuresAreThoseOfAFullSort() {
        const auto e = explained(randomFrames(11));
        std::vector<int64_t> durations;
        size_t over = 0, near = 0;
        int64_t late = 0;
        for (uint32_t f = 0; f < e->frames.size(); ++f) {
            const FrameVerdict& v = e->frames[f];
            durations.push_back(e->frame(f).duration());
            over += v.state == FrameState::Over;
            near += v.state == FrameState::Near;
            late += v.overrun;
            QCOMPARE(v.overrun > 0, v.state == FrameState::Over);
            QCOMPARE(v.work, e->frame(f).duration() - e->pathSums->pacing(f));
        }
        std::sort(durations.begin(), durations.end());
        const auto rank = [&](double part) {
            return durations[size_t(std::ceil(part * double(durations.size()))) - 1];
        };
        QCOMPARE(e->figures.p50, rank(0.5));
        QCOMPARE(e->figures.p95, rank(0.95));
        QCOMPARE(e->figures.p99, rank(0.99));
        QCOMPARE(e->figures.worst, durations.back());
        QCOMPARE(e->figures.over, over);
        QCOMPARE(e->figures.near, near);
        QCOMPARE(e->figures.late, late);
        QCOMPARE(e->durations.size(), durations.size());
        for (size_t i = 0; i < durations.size(); ++i)
            QCOMPARE(e->durations.percentile((double(i) + 0.5) / double(durations.size())), durations[i]);
    }

    void whatFramesAreBoundByAddsUpToThem() {
        for (uint32_t seed = 12; seed <= 14; ++seed) {
            const auto r = randomFrames(seed);
            const auto e = explained(r);
            Bounds bounds(*r, *e->pathSums);
            for (uint32_t f = 0; f < e->frames.size(); ++f) {
                const Bound bound = bounds.of(f);
                int64_t sum = 0, most = 0;
                for (const int64_t ns : bound.ns) {
                    sum += ns;
                    most = std::max(most, ns);
                }
                QCOMPARE(sum, e->frame(f).duration());
                QCOMPARE(bound.ns[size_t(bound.by)], most);
                QVERIFY(bound.work <= sum && bound.groupNs <= most);
                QCOMPARE(e->frames[f].bound, bound.by);
                QCOMPARE(e->frames[f].boundGroup, bound.group);
            }
        }
    }

    // ---- by hand ------------------------------------------------------------------------------------------

    void whereHalfTheFramesAreLateTheOthersAreUsual() {
        std::vector<double> lengths;
        for (int i = 0; i < 40; ++i) lengths.push_back(i % 2 ? 16 : 6);
        const auto e = framesOf(lengths);
        QCOMPARE(e->figures.over, size_t{20});
        QCOMPARE(e->usualOf(1), int64_t{6'000'000});
        QCOMPARE(causeText(*e, 0), QString("A main Frame/Work slower"));
        QCOMPARE(e->causes.size(), size_t{1});
        QVERIFY(std::abs(e->causes[0].slowdown - 15.8 / 5.8) < 1e-9);
        QVERIFY(!e->baselines[0].onlyLate);
    }

    void whereEveryFrameIsLateTheQuickestQuarterIsUsual() {
        std::vector<double> lengths;
        for (int i = 0; i < 40; ++i) lengths.push_back(12 + i % 8);
        const auto e = framesOf(lengths);
        QCOMPARE(e->figures.over, size_t{40});
        QVERIFY(e->baselines[0].onlyLate);
        QCOMPARE(e->baselines[0].frames, size_t{10});
        QCOMPARE(e->usualOf(0), int64_t{12'000'000});  // five of 12 ms, five of 13: the lower one
        for (uint32_t f = 0; f < 40; ++f) QVERIFY(!e->sharesOf(f).empty());
    }

    void aWarmUpDoesNotCountAsUsual() {
        std::vector<double> lengths(30, 9.0);
        lengths.insert(lengths.end(), 170, 6.0);
        lengths[150] = 14;
        const auto e = framesOf(lengths);
        QCOMPARE(e->figures.over, size_t{1});
        QCOMPARE(e->usualOf(150), int64_t{6'000'000});
        QCOMPARE(e->sharesOf(150)[0].excess, int64_t{8'000'000});
    }

    void evenOneFrameIsExplained() {
        const auto one = framesOf({14});
        QCOMPARE(one->figures.over, size_t{1});
        QVERIFY(one->baselines[0].onlyLate);
        QVERIFY(!one->causes.empty() && !frameSentences(*one, 0).empty());
        QCOMPARE(one->figures.worst, int64_t{14'000'000});
        const auto good = framesOf({5});
        QVERIFY(good->causes.empty());
        QCOMPARE(good->figures.over, size_t{0});
        const auto two = framesOf({5, 14});
        QCOMPARE(two->usualOf(1), int64_t{5'000'000});
        QCOMPARE(causeText(*two, 0), QString("A main Frame/Work slower"));
    }

    void aRareLongFrameDoesNotMoveWhatIsUsual() {
        std::vector<double> lengths(100, 7.0);
        for (int i = 0; i < 100; i += 7) lengths[size_t(i)] = 9.5;  // long, and still in budget
        lengths[50] = 13;
        const auto e = framesOf(lengths);
        QCOMPARE(e->usualOf(50), int64_t{7'000'000});
        const auto parts = e->excessOf(50);
        QCOMPARE(parts[0].excess(), int64_t{6'000'000});
        QCOMPARE(parts[0].high, int64_t{9'300'000});  // seldom so much, but sometimes
    }

    void framesHeldToTheTickAreLateOnlyWhereTheyMissOne() {
        QVERIFY(heldToTick(16'700'000, 9'000'000, 16'666'667));
        QVERIFY(heldToTick(20'000'000, 9'000'000, 16'666'667));    // a tick that came a little late
        QVERIFY(!heldToTick(33'300'000, 15'000'000, 16'666'667));  // one was missed
        QVERIFY(!heldToTick(16'700'000, 0, 16'666'667));           // does not wait for any
        QVERIFY(!heldToTick(24'000'000, 5'000'000, 16'666'667));   // its work alone is too long
    }
};

QTEST_GUILESS_MAIN(UsualTest)
#include "usual_test.moc"
