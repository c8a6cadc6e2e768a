// SPDX-License-Identifier: GPL-3.0-or-later
//
// Work that is done off the interface thread: what it throws, how it is cancelled, what comes first, how a program ends
// meanwhile; and opening and explaining a document so.
#include <sys/resource.h>
#include <unistd.h>

#include <QApplication>
#include <QProcess>
#include <QSemaphore>
#include <QSignalSpy>
#include <QtTest>
#include <mutex>

#include "app/document/document.h"
#include "app/work/background_query.h"
#include "testing/children.h"
#include "testing/patience.h"

using namespace fugato;

namespace {

constexpr const char* kPostsAtEnd = "FUGATO_TEST_POSTS_AT_END";
constexpr const char* kNoThreads = "FUGATO_TEST_NO_THREADS";
constexpr uid_t kNobody = 65534;

}  // namespace

class WorkTest : public QObject {
    Q_OBJECT

    /// This program, as another process that does what the variable names.
    static void endsWell(const char* variable) {
        QProcess child;
        QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
        environment.insert(variable, "1");
        child.setProcessEnvironment(environment);
        child.start(QCoreApplication::applicationFilePath(), QStringList{});
        QVERIFY(child.waitForFinished(kPatience));
        QVERIFY(child.exitStatus() == QProcess::NormalExit && child.exitCode() == 0);
    }

private slots:
    void whatTakesLongToBeFreedIsFreedOnAnotherThread() {
        struct Slow {
            std::atomic<Qt::HANDLE>& freedOn;
            explicit Slow(std::atomic<Qt::HANDLE>& on) : freedOn(on) {}
            ~Slow() { freedOn = QThread::currentThreadId(); }
        };
        std::atomic<Qt::HANDLE> freedOn{nullptr};
        auto slow = freedElsewhere(std::make_shared<Slow>(freedOn));
        auto again = slow;
        slow.reset();
        QTest::qWait(20);
        QVERIFY(!freedOn);  // it is still used
        again.reset();
        EVENTUALLY(freedOn != nullptr);
        QVERIFY(freedOn != QThread::currentThreadId());
        QVERIFY(!freedElsewhere(std::shared_ptr<int>()));
        freedOn = nullptr;
        BackgroundQuery asking;
        std::shared_ptr<Slow> answer;
        asking.ask([&](const Progress&) { return std::make_shared<Slow>(freedOn); },
                   [&](const std::shared_ptr<Slow>& made) { answer = made; });
        EVENTUALLY(answer != nullptr && !asking.busy());
        answer.reset();
        EVENTUALLY(freedOn != nullptr);
        QVERIFY(freedOn != QThread::currentThreadId());
    }

    void whatWorkThrowsBecomesASentence() {
        QString said;
        const auto task =
            Task::start([](Task&) { throw std::bad_alloc(); }, [&](const QString& words) { said = words; });
        EVENTUALLY(said.contains("not enough memory"));
        said.clear();
        const auto other = Task::start([](Task&) { throw std::runtime_error("of this"); },
                                       [&](const QString& words) { said = words; });
        EVENTUALLY(said.contains("of this"));
        BackgroundQuery asking;
        bool changed = false;
        connect(&asking, &BackgroundQuery::failed, this, [&] { changed = !asking.busy(); });
        asking.ask([](const Progress&) -> std::shared_ptr<int> { throw std::bad_alloc(); },
                   [](const std::shared_ptr<int>&) {});
        EVENTUALLY(changed);
    }

    void aPostThatIsNeverHeardHoldsNobodyUp() { endsWell(kPostsAtEnd); }
    void withoutThreadsOneIsToldAndTheProgramEnds() { endsWell(kNoThreads); }

    void cancellingWaitsForNothing() {
        QSemaphore begun, goOn;
        std::atomic<bool> ended{false};
        bool heard = false;
        {
            BackgroundQuery asking;
            asking.ask(
                [&](const Progress&) {  // does not listen
                    begun.release();
                    goOn.acquire();
                    ended = true;
                    return std::make_shared<int>(1);
                },
                [&](const std::shared_ptr<int>&) { heard = true; });
            begun.acquire();
            asking.silence();
            QVERIFY(!asking.busy());
            QVERIFY(!ended);
            asking.ask([](const Progress&) { return std::make_shared<int>(2); },
                       [&](const std::shared_ptr<int>& answer) { heard = *answer == 2; });
            EVENTUALLY(heard);
            heard = false;
        }  // and so does closing
        QVERIFY(!ended);
        goOn.release();
        EVENTUALLY(ended);
        EVENTUALLY(!Task::anyRuns());
        QCoreApplication::processEvents();
        QVERIFY(!heard);
    }

    void whatIsMoreUrgentIsBegunFirst() {
        EVENTUALLY(!Task::anyRuns());
        QSemaphore begun, goOn, ended;
        for (int i = 0; i < workerCount(); ++i)
            startWork(
                [&] {
                    begun.release();
                    goOn.acquire();
                    ended.release();
                },
                Urgency::Wanted);
        begun.acquire(workerCount());
        std::mutex lock;
        QStringList order;
        const auto note = [&](const char* what) {
            const std::lock_guard guard(lock);
            order << what;
        };
        const auto no = [](const QString&) {};
        Task::start([&](Task&) { note("ahead"); }, no, Urgency::Ahead);
        Task::start([&](Task&) { note("cancelled"); }, no)->cancel();
        Task::start([&](Task&) { note("wanted"); }, no);
        // Painting has threads of its own.
        startWork([&] { note("painting"); }, Urgency::Painting);
        const auto painted = [&] {
            const std::lock_guard guard(lock);
            return order.contains("painting");
        };
        EVENTUALLY(painted());
        goOn.release();  // one of them
        EVENTUALLY(!Task::anyRuns());
        QCOMPARE(order, QStringList({"painting", "wanted", "ahead"}));  // and not what was cancelled before it began
        goOn.release(workerCount() - 1);
        ended.acquire(workerCount());
    }

    void aNewerRequestSilencesTheOlderOne() {
        Document document;
        QSignalSpy explainedSpy(&document, &Document::explanationChanged),
            opened(&document, &Document::recordingChanged);
        document.open(FUGATO_DEMO_RECORDING);
        document.open("/nowhere.fugato");
        QSignalSpy failed(&document, &Document::failed);
        QVERIFY(failed.wait(kPatience));
        EVENTUALLY(!Task::anyRuns());  // the older one has ended, whatever it told
        QCoreApplication::processEvents();
        QCOMPARE(opened.count(), 0);
        QCOMPARE(explainedSpy.count(), 0);
        QVERIFY(!document.recording());
    }

    void progressRisesToTheEnd() {
        Document document;
        QSignalSpy progressed(&document, &Document::progressed), explainedSpy(&document, &Document::explanationChanged);
        document.open(FUGATO_DEMO_RECORDING);
        QVERIFY(explainedSpy.wait(kPatience));
        QVERIFY(progressed.count() > 5);
        double last = -1;
        for (const auto& signal : progressed) {
            QVERIFY(signal[0].toDouble() >= last);
            last = signal[0].toDouble();
        }
        QVERIFY(last > 0.9 && last <= 1);
        QVERIFY(!document.busy());
    }

    void changingTheBudgetQuicklyEndsWithTheLastOne() {
        Document document;
        QSignalSpy explainedSpy(&document, &Document::explanationChanged);
        document.open(FUGATO_DEMO_RECORDING);
        QVERIFY(explainedSpy.wait(kPatience));
        explainedSpy.clear();
        for (int ms = 5; ms <= 20; ++ms) document.setBudget(ms * 1'000'000);
        EVENTUALLY(!document.busy());
        QCOMPARE(document.explanation()->budget, int64_t{20'000'000});
        QVERIFY(document.explanation()->pathSums);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    if (qEnvironmentVariableIsSet(kPostsAtEnd)) {  // the child of aPostThatIsNeverHeardHoldsNobodyUp
        Task::start([](Task& task) { task.post([] {}); }, [](const QString&) {})->cancel();
        while (Task::anyRuns()) QThread::msleep(1);
        return 0;
    }
    if (qEnvironmentVariableIsSet(kNoThreads)) {  // the child of withoutThreadsOneIsToldAndTheProgramEnds
        const rlimit none{0, 0};
        if (setrlimit(RLIMIT_NPROC, &none) != 0 || (getuid() == 0 && setuid(kNobody) != 0)) return 2;
        int result = 1;
        Task::start([](Task&) {},
                    [&](const QString& sentence) {
                        result = sentence.contains("no more threads") ? 0 : 1;
                        QCoreApplication::quit();
                    });
        QTimer::singleShot(20'000, &application, &QCoreApplication::quit);
        QApplication::exec();
#ifdef ADDRESS_SANITIZER
        _exit(result);  // looking for leaks takes a thread
#endif
        return result;
    }
    WorkTest test;
    return QTest::qExec(&test, argc, argv);
}
#include "work_test.moc"
