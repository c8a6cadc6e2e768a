// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QCommandLineParser>
#include <QMenu>
#include <QMenuBar>
#include <QPainter>
#include <QPalette>
#include <QScreen>
#include <QTimer>
#include <clocale>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <vector>

#ifdef __GLIBC__
#include <malloc.h>
#endif

#include "app/drawer/drawer.h"
#include "app/record/recording_session.h"
#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/window/main_window.h"
#include "core/explain/words/templates.h"
#include "core/store/long_work.h"
#include "format/log.h"

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
int takePicture(fugato::MainWindow& window, const QString& recording, const QString& path, const QString& view,
                double factor, int afterMs) {
    int result = 1;
    const auto finish = [&](bool good) {
        while (window.asking()) QCoreApplication::processEvents(QEventLoop::AllEvents, 20);
        QCoreApplication::processEvents();
        QWidget* const dialog = QApplication::activeModalWidget();
        fugato::ViewPicture wanted = window.views().front();
        for (const fugato::ViewPicture& one : window.views())
            if (one.id == view) wanted = one;
        if (dialog)
            wanted = {"dialog", dialog->windowTitle(), dialog->size(),
                      [dialog](QPainter& painter) { dialog->render(&painter); }};
        if (!good) return QApplication::quit();
        fugato::saveViewPicture(wanted, factor, path, [&](const QString& why) {
            result = why.isEmpty() ? 0 : 1;
            if (result) qCritical("fugato: %s", qPrintable(why));
            QApplication::quit();
        });
    };
    if (!afterMs)
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window,
                         [&] { QTimer::singleShot(50, &window, [&] { finish(true); }); });
    QObject::connect(&window.document(), &fugato::Document::failed, &window, [&](const QString& words) {
        qCritical("fugato: %s", qPrintable(words));
        QTimer::singleShot(50, &window, [&] { finish(true); });
    });
    window.show();
    if (!recording.isEmpty()) window.open(recording);
    if (afterMs)
        QTimer::singleShot(afterMs, &window, [&] { finish(true); });
    else if (recording.isEmpty())
        QTimer::singleShot(50, &window, [&] { finish(true); });
    QApplication::exec();
    return result;
}

/// What the command line asks for.
class Asked {
public:
    Asked() {
        parser_.setApplicationDescription(
            "Finds the frames of a recording that came late and names what made them so.");
        parser_.addHelpOption();
        parser_.addVersionOption();
        parser_.addPositionalArgument("recording", "A .fugato or .jsonl file to open.", "[recording]");
        parser_.addOptions(
            {{"picture", "Opens the recording, saves a picture of the window to FILE (PNG or SVG), and quits.", "FILE"},
             {"view", "Of what the picture is: window, lanes, all-lanes, strip, causes, explanation or page.", "VIEW"},
             {"larger", "How many times as large as shown the picture is drawn.", "FACTOR"},
             {"size", "Size of the window, WIDTHxHEIGHT.", "SIZE"},
             {"frame", "Goes to frame NUMBER once the recording is explained.", "NUMBER"},
             {"cause", "Chooses the cause with this LETTER once the recording is explained.", "LETTER"},
             {"repair", "Tries what repairs of the causes with these LETTERS would bring: A,C.", "LETTERS"},
             {"range", "Selects the time BEGIN-END, in seconds, and shows it.", "BEGIN-END"},
             {"look-at", "Chooses what the tables speak of: frame, spike, cause, late, view, whole, or stage:NAME.",
              "WHAT"},
             {"at", "Chooses the instant SECONDS after the recording's begin.", "SECONDS"},
             {"find", "Looks for WORDS and tells the figures of the first marker found.", "WORDS"},
             {"page", "Opens a page below the lanes, for example markers or advice.", "PAGE"},
             {"command", "Chooses the command of the menus with this NAME, for example \"What to collect\".", "NAME"},
             {"dark", "Dark colours, this time."},
             {"light", "Light colours, this time."},
             {"join", "Records the running program with this NAME, or number of its process.", "NAME"},
             {"after", "Takes the picture after so many SECONDS.", "SECONDS"},
             {"log-level",
              "Writes on the error output what is otherwise kept quiet: debug, info, warning, error or off.",
              "LEVEL"}});
    }
    /// Ends the program where help or the version was asked for, or an option is unknown.
    void read(const QApplication& app) { parser_.process(app); }
    QStringList recordings() const { return parser_.positionalArguments(); }
    QString picture() const { return parser_.value("picture"); }
    QString view() const { return parser_.isSet("view") ? parser_.value("view") : "window"; }
    double factor() const { return parser_.isSet("larger") ? parser_.value("larger").toDouble() : 1; }
    QString program() const { return parser_.value("join"); }
    int afterMs() const { return static_cast<int>(parser_.value("after").toDouble() * 1000); }

    /// Does what is asked, or does it once the recording is explained. False where something asked for makes no sense;
    /// that was told.
    bool applyTo(fugato::MainWindow& window) const {
        if (parser_.isSet("log-level") && !fugato::setLogLevel(parser_.value("log-level").toStdString()))
            return wrong("log-level", "is no level. Write one of: debug, info, warning, error, off.");
        for (const char* name : {"dark", "light"})
            if (parser_.isSet(name))
                fugato::applyTheme(QString(name) == "dark", fugato::settings::highContrast().get());
        const QStringList views{"window", "lanes", "all-lanes", "strip", "causes", "explanation", "page"};
        if (!views.contains(view())) return wrong("view", "is no view. Write one of: " + views.join(", ") + ".");
        constexpr double kLargest = 8;
        if (!(factor() > 0 && factor() <= kLargest))
            return wrong("larger", "is no number up to 8. Write for example 2.");
        causes(window);
        if (parser_.isSet("at")) {
            bool number = false;
            const double at = parser_.value("at").toDouble(&number);
            if (!number || !(at >= 0 && at < 1e9)) return wrong("at", "is no number of seconds.");
            once(window, [&window, at] {
                window.selection().chooseInstant(window.document().recording()->begin + static_cast<int64_t>(at * 1e9));
                window.selection().showInstant();
            });
        }
        if (parser_.isSet("find")) once(window, [&window, words = parser_.value("find")] { window.findMarker(words); });
        return size(window) && frame(window) && range(window) && lookAt(window) && page(window) && command(window);
    }

private:
    template <class Act>
    static void once(fugato::MainWindow& window, Act&& act) {
        // Explained again, when functions have names or frames are added, it is the person's own choice that holds.
        QObject::connect(&window.document(), &fugato::Document::explanationChanged, &window, std::forward<Act>(act),
                         static_cast<Qt::ConnectionType>(Qt::AutoConnection | Qt::SingleShotConnection));
    }
    bool wrong(const char* option, const QString& why) const {
        qCritical("fugato: --%s %s %s", option, qPrintable(parser_.value(option)), qPrintable(why));
        return false;
    }

    bool size(fugato::MainWindow& window) const {
        if (!parser_.isSet("size")) return true;
        const QStringList sides = parser_.value("size").split('x');
        const QSize wanted(sides.value(0).toInt(), sides.value(1).toInt());
        if (wanted.width() < 400 || wanted.height() < 300)
            return wrong("size", "is no size of at least 400x300. Write for example 1280x800.");
        window.resize(wanted);
        return true;
    }
    bool frame(fugato::MainWindow& window) const {
        if (!parser_.isSet("frame")) return true;
        bool number = false;
        const uint wanted = parser_.value("frame").toUInt(&number);
        if (!number) return wrong("frame", "is no frame number.");
        once(window, [&window, wanted] { window.selection().chooseFrame(wanted); });
        return true;
    }
    void causes(fugato::MainWindow& window) const {
        if (parser_.isSet("cause"))
            once(window, [&window, letter = parser_.value("cause").toUpper().toStdString()] {
                const auto& e = window.document().explanation();
                for (uint32_t i = 0; e && i < e->causes.size(); ++i)
                    if (e->causes[i].letter == letter) window.selection().chooseCause(i);
            });
        if (parser_.isSet("repair"))
            once(window, [&window, letters = parser_.value("repair").toUpper().split(',')] {
                const auto& e = window.document().explanation();
                std::vector<fugato::Repair> repairs;
                for (uint32_t i = 0; e && i < e->causes.size(); ++i)
                    if (letters.contains(QString::fromStdString(e->causes[i].letter))) repairs.push_back({i, false});
                window.document().trials().setRepairs(repairs);
            });
    }
    bool range(fugato::MainWindow& window) const {
        if (!parser_.isSet("range")) return true;
        const QStringList ends = parser_.value("range").split('-');
        bool good = ends.size() == 2;
        const double from = ends.value(0).toDouble(&good), to = good ? ends.value(1).toDouble(&good) : 0;
        if (!good || from >= to) return wrong("range", "is no range of time. Write for example 12.5-14, in seconds.");
        once(window, [&window, from, to] {
            const int64_t zero = window.document().recording()->begin;
            const fugato::TimeRange chosen{zero + static_cast<int64_t>(from * 1e9),
                                           zero + static_cast<int64_t>(to * 1e9)};
            const int64_t margin = (chosen.end - chosen.begin) / 4;
            window.selection().showSpan(chosen.begin - margin, chosen.end + margin, true);
            window.selection().selectRange(chosen);
        });
        return true;
    }
    bool lookAt(fugato::MainWindow& window) const {
        if (!parser_.isSet("look-at")) return true;
        using Of = fugato::ScopeChoice::Of;
        const QMap<QString, Of> known{{"frame", Of::Frame}, {"spike", Of::Spike}, {"cause", Of::Cause},
                                      {"late", Of::Late},   {"view", Of::View},   {"whole", Of::Whole}};
        const QString wanted = parser_.value("look-at");
        fugato::ScopeChoice choice;
        if (wanted.startsWith("stage:")) {
            choice.of = Of::Stage;
            choice.stage = wanted.mid(6).toStdString();
        } else if (known.contains(wanted)) {
            choice.of = known[wanted];
        } else {
            return wrong("look-at",
                         "is nothing to look at. Write one of: frame, spike, cause, late, view, whole, stage:NAME.");
        }
        once(window, [&window, choice] { window.selection().chooseScope(choice); });
        return true;
    }
    bool page(fugato::MainWindow& window) const {
        if (!parser_.isSet("page")) return true;
        QStringList names;
        for (const fugato::DrawerPage* page : window.drawer().pages()) names << page->words().id;
        const QString wanted = parser_.value("page");
        if (!names.contains(wanted)) return wrong("page", "is no page. Write one of: " + names.join(", ") + ".");
        once(window, [&window, wanted] { window.drawer().show(wanted); });
        return true;
    }

    bool command(fugato::MainWindow& window) const {
        if (!parser_.isSet("command")) return true;
        const auto plain = [](QString name) { return name.remove('&').remove(u'…').toLower(); };
        for (QAction* menu : window.menuBar()->actions())
            for (QAction* entry : menu->menu()->actions()) {
                if (plain(entry->text()) != plain(parser_.value("command"))) continue;
                if (recordings().isEmpty())
                    QTimer::singleShot(0, entry, &QAction::trigger);
                else
                    once(window, [entry] { entry->trigger(); });
                return true;
            }
        return wrong("command", "is no command of the menus.");
    }

    QCommandLineParser parser_;
};

/// Everything is drawn for a font of usual size and scaled as a whole: so large as the person chose, or as the system's
/// font is. Must be known before the application is made, so the system is asked by one that goes again.
void scaleText(int argc, char** argv) {
    constexpr double kUsualFont = 13.4, kNoticed = 1.15, kMost = 2;  // pixels at 96 dpi; times it
    if (qEnvironmentVariableIsSet("QT_SCALE_FACTOR")) return;
    double factor = fugato::settings::textPercent().get() / 100.0;
    if (factor == 0) {
        std::vector<char*> arguments(argv, argv + argc);
        arguments.push_back(nullptr);
        const QGuiApplication asking(argc, arguments.data());
        const QScreen* screen = QGuiApplication::primaryScreen();
        const QFont font = QGuiApplication::font();
        const double pixels = font.pixelSize() > 0
                                  ? font.pixelSize()
                                  : font.pointSizeF() * (screen ? screen->logicalDotsPerInch() : 96) / 72;
        factor = pixels < kNoticed * kUsualFont ? 1 : std::min(pixels / kUsualFont, kMost);
    }
    if (factor != 1) qputenv("QT_SCALE_FACTOR", QByteArray::number(factor, 'f', 2));
}

/// Whether the system's colours are dark, or black and white.
void lookAtSystemColours() {
    const QPalette palette = QGuiApplication::palette();
    const QColor ground = palette.color(QPalette::Window), words = palette.color(QPalette::WindowText);
    constexpr double kAllButBlackAndWhite = 20;
    auto& look = fugato::settings::systemLook();
    look.dark = ground.lightness() < words.lightness();
    look.highContrast = fugato::contrastOf(ground, words) > kAllButBlackAndWhite;
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
#ifdef __GLIBC__
    // What large lists took goes back to the system as soon as they are gone; else the library would keep it for
    // hours (130 MB of 190 where a race of 74 minutes is opened that is still recorded).
    mallopt(M_MMAP_THRESHOLD, 4 << 20);
#endif
    std::signal(SIGPIPE, SIG_IGN);
    std::signal(SIGXFSZ, SIG_IGN);  // the limit on the size of files counts as a full disk
    QCoreApplication::setOrganizationName("Fugato");
    QCoreApplication::setApplicationName("fugato");
    scaleText(argc, argv);
    Application app(argc, argv);
    lookAtSystemColours();
    fugato::setTranslate([](const char* text) { return QCoreApplication::translate("sentences", text).toStdString(); });
    fugato::keepThreadQuick();        // it is the interface: nothing that takes long may begin on it
    std::setlocale(LC_NUMERIC, "C");  // numbers are written the same everywhere, with a point
    QLocale::setDefault(QLocale::c());
    QApplication::setStyle("Fusion");
    QApplication::setApplicationVersion(FUGATO_VERSION);

    Asked asked;
    asked.read(app);
    if (asked.recordings().size() > 1) {
        qCritical("fugato: one recording at a time. See --help.");
        return 2;
    }
    const QString recording = asked.recordings().value(0);

    const auto atEnd = qScopeGuard([] { fugato::settings::writeNow(); });  // on whatever way
    fugato::MainWindow window;
    QObject::connect(&app, &QGuiApplication::applicationStateChanged, &app, [](Qt::ApplicationState state) {
        if (state == Qt::ApplicationActive) fugato::settings::refresh();  // another window may have written meanwhile
    });
    if (!asked.applyTo(window)) return 2;
    if (!asked.program().isEmpty()) window.session().join(asked.program().toStdString());
    if (!asked.picture().isEmpty())
        return takePicture(window, recording, asked.picture(), asked.view(), asked.factor(), asked.afterMs());
    window.show();
    if (!recording.isEmpty()) window.open(recording);
    const int result = QApplication::exec();
    // Closing is at once: work that was cancelled and has not ended yet is left where it is. It writes nothing
    // that would not be made anew.
    window.close();
    fugato::settings::writeNow();
    if (fugato::Task::anyRuns()) std::_Exit(result);
    return result;
}
