// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QCommandLineParser>
#include <QSettings>
#include <QTimer>
#include <clocale>
#include <csignal>
#include <cstdio>
#include <cstdlib>

#include "app/drawer/drawer.h"
#include "app/theme/theme.h"
#include "app/window/main_window.h"

namespace {

/// Lack of memory while something is shown or clicked ends that, not the program.
class Application final : public QApplication {
public:
    using QApplication::QApplication;
    bool notify(QObject* receiver, QEvent* event) override {
        try {
            return QApplication::notify(receiver, event);
        } catch (const std::exception& error) {
            qCritical("fugato: %s", error.what());
            return true;
        }
    }
};

/// Opens the recording, takes one picture of the explained window, and quits. For documents and reports.
int takePicture(fugato::MainWindow& window, const QString& recording, const QString& path) {
    int result = 1;
    const auto finish = [&](bool good) {
        while (window.asking()) QCoreApplication::processEvents(QEventLoop::AllEvents, 20);
        QCoreApplication::processEvents();
        result = good && window.grab().save(path) ? 0 : 1;
        if (result) qCritical("fugato: cannot take the picture %s", qPrintable(path));
        QApplication::quit();
    };
    QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window,
                     [&] { QTimer::singleShot(50, &window, [&] { finish(true); }); });
    QObject::connect(&window.document(), &fugato::Document::failed, &window, [&](const QString& words) {
        qCritical("fugato: %s", qPrintable(words));
        QTimer::singleShot(50, &window, [&] { finish(true); });
    });
    window.show();
    if (recording.isEmpty())
        QTimer::singleShot(50, &window, [&] { finish(true); });
    else
        window.open(recording);
    QApplication::exec();
    return result;
}

}  // namespace

int main(int argc, char** argv) {
    const bool anyDisplay = qEnvironmentVariableIsSet("DISPLAY") || qEnvironmentVariableIsSet("WAYLAND_DISPLAY") ||
                            qEnvironmentVariableIsSet("QT_QPA_PLATFORM");
    if (!anyDisplay) {
        std::fprintf(stderr,
                     "fugato: there is no display. Set DISPLAY, or use `fugato-cli explain FILE` in the terminal.\n");
        return 2;
    }
    std::signal(SIGPIPE, SIG_IGN);
    std::signal(SIGXFSZ, SIG_IGN);  // the limit on the size of files counts as a full disk
    Application app(argc, argv);
    std::setlocale(LC_NUMERIC, "C");  // numbers are written the same everywhere, with a point
    QLocale::setDefault(QLocale::c());
    QApplication::setStyle("Fusion");
    QApplication::setOrganizationName("Fugato");
    QApplication::setApplicationName("fugato");
    QApplication::setApplicationVersion(FUGATO_VERSION);

    QCommandLineParser options;
    options.setApplicationDescription("Finds the frames of a recording that came late and names what made them so.");
    options.addHelpOption();
    options.addVersionOption();
    options.addPositionalArgument("recording", "A .fugato or .jsonl file to open.", "[recording]");
    const QCommandLineOption picture("picture",
                                     "Opens the recording, saves a picture of the window to FILE, and quits.", "FILE");
    const QCommandLineOption size("size", "Size of the window, WIDTHxHEIGHT.", "SIZE");
    const QCommandLineOption frame("frame", "Goes to frame NUMBER once the recording is explained.", "NUMBER");
    const QCommandLineOption cause("cause", "Chooses the cause with this LETTER once the recording is explained.",
                                   "LETTER");
    const QCommandLineOption repair("repair", "Tries what repairs of the causes with these LETTERS would bring: A,C.",
                                    "LETTERS");
    const QCommandLineOption stretch("stretch", "Shows and chooses the stretch BEGIN-END of seconds.", "BEGIN-END");
    const QCommandLineOption find("find", "Looks for WORDS and tells the figures of the first marker found.", "WORDS");
    const QCommandLineOption page("page", "Opens a page below the lanes: frame, stretch, marker, found or advice.",
                                  "PAGE");
    const QCommandLineOption dark("dark", "Dark colours, this time.");
    const QCommandLineOption light("light", "Light colours, this time.");
    options.addOptions({picture, size, frame, cause, repair, stretch, find, page, dark, light});
    options.process(app);
    if (options.positionalArguments().size() > 1) {
        qCritical("fugato: one recording at a time. See --help.");
        return 2;
    }
    const QString recording = options.positionalArguments().value(0);

    fugato::MainWindow window;
    if (options.isSet(dark)) fugato::applyTheme(true);
    if (options.isSet(light)) fugato::applyTheme(false);
    if (options.isSet(size)) {
        const QStringList sides = options.value(size).split('x');
        const QSize wanted(sides.value(0).toInt(), sides.value(1).toInt());
        if (wanted.width() < 400 || wanted.height() < 300) {
            qCritical("fugato: --size %s is no size of at least 400x300. Write for example 1280x800.",
                      qPrintable(options.value(size)));
            return 2;
        }
        window.resize(wanted);
    }
    if (options.isSet(frame)) {
        bool number = false;
        const uint wanted = options.value(frame).toUInt(&number);
        if (!number) {
            qCritical("fugato: --frame %s is no frame number.", qPrintable(options.value(frame)));
            return 2;
        }
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window,
                         [&window, wanted] { window.selection().chooseFrame(wanted); });
    }
    if (options.isSet(cause)) {
        const std::string letter = options.value(cause).toUpper().toStdString();
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window, [&window, letter] {
            const auto& e = window.document().explanation();
            for (uint32_t i = 0; e && i < e->causes.size(); ++i)
                if (e->causes[i].letter == letter) window.selection().chooseCause(i);
        });
    }
    if (options.isSet(repair)) {
        const QStringList letters = options.value(repair).toUpper().split(',');
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window, [&window, letters] {
            const auto& e = window.document().explanation();
            std::vector<fugato::Repair> repairs;
            for (uint32_t i = 0; e && i < e->causes.size(); ++i)
                if (letters.contains(QString::fromStdString(e->causes[i].letter))) repairs.push_back({i, false});
            window.document().setRepairs(repairs);
        });
    }
    if (options.isSet(stretch)) {
        const QStringList ends = options.value(stretch).split('-');
        bool good = ends.size() == 2;
        const double from = ends.value(0).toDouble(&good), to = good ? ends.value(1).toDouble(&good) : 0;
        if (!good || from >= to) {
            qCritical("fugato: --stretch %s is no stretch. Write for example 12.5-14.",
                      qPrintable(options.value(stretch)));
            return 2;
        }
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window, [&window, from, to] {
            const int64_t zero = window.document().recording()->begin;
            const fugato::Stretch chosen{zero + static_cast<int64_t>(from * 1e9),
                                         zero + static_cast<int64_t>(to * 1e9)};
            const int64_t margin = (chosen.end - chosen.begin) / 4;
            window.selection().showSpan(chosen.begin - margin, chosen.end + margin, true);
            window.selection().chooseStretch(chosen);
        });
    }
    if (options.isSet(find))
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window,
                         [&window, words = options.value(find)] { window.findMarker(words); });
    if (options.isSet(page)) {
        const int wanted = QStringList{"frame", "stretch", "marker", "found", "advice"}.indexOf(options.value(page));
        if (wanted < 0) {
            qCritical("fugato: there is no page %s. Write frame, stretch, marker, found or advice.",
                      qPrintable(options.value(page)));
            return 2;
        }
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window,
                         [&window, wanted] { window.drawer().show(static_cast<fugato::Drawer::Page>(wanted)); });
    }
    if (options.isSet(picture)) return takePicture(window, recording, options.value(picture));
    window.show();
    if (!recording.isEmpty()) window.open(recording);
    const int result = QApplication::exec();
    // Closing is at once: work that was cancelled and has not ended yet is left where it is. It writes nothing
    // that would not be made anew.
    window.close();
    QSettings().sync();
    if (fugato::Task::anyRuns()) std::_Exit(result);
    return result;
}
