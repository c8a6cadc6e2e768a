// SPDX-License-Identifier: GPL-3.0-or-later
//
// How true the explanation of a program is that runs in real time, is troubled at known frames, and tells little
// (lightship); on this machine as it is, and with every core in use by others. Whatever else this machine does is
// noise.
#include <QDir>
#include <QProcess>
#include <memory>
#include <thread>

#include "core/explain/causes/explain.h"
#include "core/explain/walk/critical_path_sums.h"
#include "core/model/open_recording.h"
#include "core/symbols/symbols.h"
#include "lightship.h"
#include "rows.h"

namespace measure {

namespace {

using namespace lightship;
using fugato::Cause;
using fugato::CauseKind;
using fugato::Contention;
using fugato::Explanation;

bool names(const Explanation& e, const Cause& cause, Trouble trouble) {
    const std::string marker = cause.path ? e.recording->nameOf(cause.path) : "",
                      group = e.recording->groups[cause.group].name;
    const bool blocked = cause.kind == CauseKind::Waiting;
    switch (trouble) {
        case Trouble::None: return cause.kind == CauseKind::NoCore;
        case Trouble::AllCores:
        case Trouble::OneCore: return cause.contention == Contention::OtherPrograms;
        case Trouble::OwnThreads: return cause.contention == Contention::OwnThreads;
        case Trouble::Stopped: return blocked && marker == "Beam";
        case Trouble::DiskRead: return marker == "Read chart";
        case Trouble::PageFaults: return marker == "Beam" && !blocked;
        case Trouble::Lock: return group == "keeper";
        case Trouble::Pipe: return blocked && marker == "Read lamp";
        case Trouble::Socket: return blocked && marker == "Report";
        case Trouble::Sync: return marker == "Keep log";
        case Trouble::Sleep: return blocked && marker == "Beam";
        case Trouble::Library: return group == "decoder";
    }
    return false;
}

struct Count {
    size_t late = 0, first = 0, named = 0, covered = 0;
    void add(const Count& more) {
        late += more.late;
        first += more.first;
        named += more.named;
        covered += more.covered;
    }
};

/// What was found in the frames that a trouble made late.
struct Found {
    Count count;
    size_t frames = 0, exact = 0, others = 0,
           false_ = 0;  // others: late without the trouble; false: not laid to the cores
};

std::shared_ptr<const Explanation> explainedRun(Trouble trouble, bool busy) {
    const QString folder = QString::fromStdString(scratchFile("lightship"));
    QDir().mkpath(folder);
    const QString name = QString(kTroubleNames[static_cast<int>(trouble)]) + (busy ? "-busy" : "") + ".fugato";
    const QString file = (keptFolder().empty() ? folder : QString::fromStdString(keptFolder())) + "/" + name;
    QProcess process;
    process.setProcessChannelMode(QProcess::ForwardedErrorChannel);
    process.start(LIGHTSHIP_PROGRAM, {kTroubleNames[static_cast<int>(trouble)], file, folder});
    if (!process.waitForFinished(120'000) || process.exitCode()) return nullptr;
    const auto opened = fugato::openRecording(file.toStdString());
    if (!opened || (*opened)->series.empty()) return nullptr;
    const auto symbols = fugato::symbolsOf(**opened, folder.toStdString());
    return fugato::explain(*opened, fugato::sumCriticalPaths(**opened, 0), {0, symbols});
}

Found found(Trouble trouble, bool busy) {
    Found out;
    const auto e = explainedRun(trouble, busy);
    if (!e) return out;
    const bool lasts = trouble == Trouble::AllCores || trouble == Trouble::OneCore || trouble == Trouble::OwnThreads;
    for (uint32_t f = 0; f < e->frames.size(); ++f) {
        int64_t sum = 0;
        for (const auto& part : e->excessOf(f)) sum += part.excess();
        out.exact += sum == e->frame(f).duration() - e->usualOf(f);
        ++out.frames;
        const auto& verdict = e->frames[f];
        if (!verdict.overrun || verdict.startUp) continue;
        const Cause& first = e->causes[e->sharesOf(verdict).front().cause];
        if (trouble == Trouble::None || !(lasts ? maySuffer(f) : isTroubled(f))) {
            ++out.others;
            out.false_ += trouble == Trouble::None && !names(*e, first, Trouble::None);
            continue;
        }
        ++out.count.late;
        out.count.first += names(*e, first, trouble);
        out.count.covered += e->coverageOf(f).part() >= fugato::kEnoughExplained;
        bool any = false;
        for (const auto& share : e->sharesOf(verdict)) any |= names(*e, e->causes[share.cause], trouble);
        out.count.named += any;
    }
    return out;
}

/// As many programs as there are cores, which do nothing but keep them.
class Crowd {
public:
    Crowd() {
        for (unsigned i = 0; i < std::thread::hardware_concurrency(); ++i) {
            others_.push_back(std::make_unique<QProcess>());
            others_.back()->start("sh", {"-c", "while :; do :; done"});
        }
    }
    ~Crowd() {
        for (const auto& other : others_) {
            other->kill();
            other->waitForFinished();
        }
    }

private:
    std::vector<std::unique_ptr<QProcess>> others_;
};

std::string part(size_t good, size_t all) { return std::to_string(good) + " of " + std::to_string(all); }
double share(size_t good, size_t all) { return all ? static_cast<double>(good) / static_cast<double>(all) : 1; }

}  // namespace

std::string& keptFolder() {
    static std::string folder;
    return folder;
}

std::vector<Row> realRows() {
    std::vector<Row> rows;
    size_t frames = 0, exact = 0;
    for (const bool busy : {false, true}) {
        std::unique_ptr<Crowd> crowd;
        if (busy) crowd = std::make_unique<Crowd>();
        const std::string where = busy ? "real, every core in use by others: " : "real: ";
        Count all;
        for (int t = 0; t < kTroubles; ++t) {
            const auto trouble = static_cast<Trouble>(t);
            const Found it = found(trouble, busy);
            frames += it.frames;
            exact += it.exact;
            all.add(it.count);
            if (trouble == Trouble::None)
                rows.push_back({where + "untroubled frames late; not laid to the cores",
                                part(it.others, it.frames) + "; " + std::to_string(it.false_),
                                "",
                                {}});
            else
                rows.push_back({where + kTroubleNames[t] + ": late frames laid first to it; named at all",
                                part(it.count.first, it.count.late) + "; " + std::to_string(it.count.named),
                                "",
                                {}});
        }
        const double goal = busy ? 0.9 : 0.95;
        rows.push_back({where + "all late frames, laid first to what troubled them", part(all.first, all.late),
                        busy ? "90 %" : "95 %", share(all.first, all.late) >= goal});
        rows.push_back({"… named at all", part(all.named, all.late), "", {}});
        rows.push_back({"… with at least four fifths of the excess named", part(all.covered, all.late), "90 %",
                        share(all.covered, all.late) >= 0.9});
    }
    rows.push_back({"real: frames whose excess is shared out exactly", part(exact, frames), "all", exact == frames});
    return rows;
}

}  // namespace measure
