// SPDX-License-Identifier: GPL-3.0-or-later
//
// What recording costs an unmodified program: its own frame times with the preloaded library ÷ without, in
// turns. It draws with OpenGL by the software driver, under a screen of its own.
#include <QFile>
#include <QProcess>
#include <QRegularExpression>
#include <QTest>
#include <algorithm>

#include "rows.h"

namespace measure {

namespace {

constexpr int kTurns = 9, kFrames = 1500;
constexpr char kScreen[] = ":94";

struct Times {
    double median = 0, p99 = 0;  // us
};

/// As the program says; zeros where it could not be run.
Times timesIn(const QStringList& command) {
    QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
    environment.insert("DISPLAY", kScreen);
    environment.insert("SDL_VIDEODRIVER", "x11");
    QProcess process;
    process.setProcessEnvironment(environment);
    process.start(command[0], command.mid(1));
    process.waitForFinished(120'000);
    static const QRegularExpression said("median ([0-9.]+) us, 99th percentile ([0-9.]+) us");
    const auto match = said.match(process.readAllStandardOutput());
    return {match.captured(1).toDouble(), match.captured(2).toDouble()};
}

double middle(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    return values[values.size() / 2];
}

}  // namespace

std::vector<Row> preloadRows() {
    QProcess screen;
    screen.start("Xvfb", {kScreen, "-screen", "0", "640x480x24", "-nolisten", "tcp"});
    const bool there =
        screen.waitForStarted() && QTest::qWaitFor([] { return QFile::exists("/tmp/.X11-unix/X94"); }, 20'000);
    const QStringList program{PICTURES_PROGRAM, "gl", QString::number(kFrames), "", "times"};
    struct Way {
        QString what;
        QStringList record;  // options of `fugato-cli record`
        bool toFile;
        double goal;
    };
    const Way ways[] = {
        {"preloaded, offered and not recorded", {"--offer"}, false, 1.01},
        {"preloaded, collecting nothing from the system", {"--collect", "none"}, true, 1.02},
        {"preloaded, collecting everything of use", {}, true, 1.02},
        {"preloaded, everything of use, only moments kept", {"--moments", "before=20s,errors"}, true, 1.02},
    };
    std::vector<Row> rows;
    for (const Way& way : ways) {
        const QString what = way.what + ": frame time with ÷ without, ";
        std::vector<double> medians, tails;
        for (int turn = 0; there && turn < kTurns; ++turn) {
            const QString file = QString::fromStdString(scratchFile("preloaded.fugato"));
            QFile::remove(file);
            const Times plain = timesIn(program);
            const Times recorded =
                timesIn(QStringList{FUGATO_CLI_PROGRAM, "record"} + way.record +
                        (way.toFile ? QStringList{"--to", file} : QStringList()) + QStringList{"--"} + program);
            QFile::remove(file);
            if (plain.median <= 0 || recorded.median <= 0) continue;
            medians.push_back(recorded.median / plain.median);
            tails.push_back(recorded.p99 / plain.p99);
        }
        const std::string goal = number("%.2f", way.goal);
        if (medians.empty()) {
            rows.push_back({what.toStdString() + "median", "not measured: no screen", goal, {}});
            continue;
        }
        for (const auto& [name, values] : {std::pair("median", &medians), std::pair("99th percentile", &tails)})
            rows.push_back(
                {(what + name).toStdString(), number("%.3f", middle(*values)), goal, middle(*values) <= way.goal});
    }
    screen.terminate();
    screen.waitForFinished();
    return rows;
}

}  // namespace measure
