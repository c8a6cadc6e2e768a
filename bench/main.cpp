// SPDX-License-Identifier: GPL-3.0-or-later
#include <QApplication>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <cstdio>
#include <cstdlib>
#include <map>

#include "rows.h"
#include "windows.h"

namespace measure {

std::string number(const char* form, double value) {
    char text[64];
    std::snprintf(text, sizeof text, form, value);
    return text;
}

bool sail(const std::vector<std::string>& arguments) {
    QStringList words;
    for (const std::string& argument : arguments) words << QString::fromStdString(argument);
    QProcess process;
    process.setProcessChannelMode(QProcess::ForwardedErrorChannel);
    process.start(SKERRY_PROGRAM, words);
    return process.waitForFinished(120'000) && process.exitCode() == 0;
}

std::string scratchFile(const std::string& name) {
    static const QTemporaryDir folder;
    return folder.filePath(QString::fromStdString(name)).toStdString();
}

}  // namespace measure

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    qputenv("QT_LOGGING_RULES", "qt.qpa.*=false");
    measure::WatchedApplication app(argc, argv);
    QStandardPaths::setTestModeEnabled(true);
    QApplication::setOrganizationName("Fugato");
    QApplication::setApplicationName("fugato-measure");
    if (argc > 1 && std::string(argv[1]) == "--scale") {  // up to so many million markers
        const unsigned long long millions = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 100;
        return measure::scaleRows(millions * 1'000'000) ? 0 : 1;
    }
    std::printf("| what | measured | goal | met |\n|---|---|---|---|\n");
    bool all = true;
    // A single part may be asked for: recorder, drawing, live, truth, real or preload (also as --truth); what grows
    // with
    // --scale.
    std::string wanted = argc < 2 ? "" : argv[1];
    if (wanted.rfind("--", 0) == 0) wanted.erase(0, 2);
    if (wanted == "real" && argc > 2) measure::keptFolder() = argv[2];
    const std::map<std::string, std::vector<measure::Row> (*)()> parts{
        {"1 recorder", measure::recorderRows}, {"2 drawing", measure::drawingRows},
        {"3 live", measure::liveRows},         {"4 truth", measure::truthRows},
        {"5 real", measure::realRows},         {"6 preload", measure::preloadRows}};
    for (const auto& [name, rows] : parts)
        for (const measure::Row& row :
             wanted.empty() || name.substr(2) == wanted ? rows() : std::vector<measure::Row>{}) {
            std::printf("| %s | %s | %s | %s |\n", row.what.c_str(), row.figure.c_str(), row.goal.c_str(),
                        !row.met   ? "–"
                        : *row.met ? "yes"
                                   : "**no**");
            std::fflush(stdout);
            all &= row.met.value_or(true);
        }
    return all ? 0 : 1;
}
