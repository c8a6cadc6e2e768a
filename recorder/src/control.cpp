// SPDX-License-Identifier: MIT
#include "control.hpp"

#include <poll.h>
#include <pthread.h>
#include <sys/eventfd.h>

#include <cerrno>
#include <cstdio>
#include <fugato_collect.hpp>
#include <fugato_control.hpp>
#include <mutex>
#include <new>
#include <set>

#include "drain.hpp"
#include "launched.hpp"
#include "moments.hpp"
#include "start_stop.hpp"

namespace fugato::recording {

using control::Message;
using control::Received;

std::atomic<bool> framesAreCounted{false};
std::atomic<uint64_t> framesBegun[kCountedSeries];

namespace {

constexpr size_t kMostClients = 16;

struct Client {
    Descriptor connection;
    bool records = false;  // what is recorded was asked for by it
};

struct Offer {
    Mutex mutex;  // taken before runMutex()
    Descriptor listening FUGATO_GUARDED_BY(mutex), wake FUGATO_GUARDED_BY(mutex);
    std::vector<Client> clients FUGATO_GUARDED_BY(mutex);
    std::string path FUGATO_GUARDED_BY(mutex);  // of the socket
    pthread_t thread FUGATO_GUARDED_BY(mutex){};
    std::atomic<bool> quit{false};
    fug_options options FUGATO_GUARDED_BY(mutex){};
    // What the options point to.
    std::string program FUGATO_GUARDED_BY(mutex), build FUGATO_GUARDED_BY(mutex), bufferFolder FUGATO_GUARDED_BY(mutex);
    const DetailSettings* detailsBefore FUGATO_GUARDED_BY(mutex) = nullptr;  // a client joined
};
/// Never destroyed: threads may outlive it.
Offer& offered() {
    static auto* const made = new Offer;
    return *made;
}

uint64_t framesSoFar() {
    for (const std::atomic<uint64_t>& frames : framesBegun)
        if (const uint64_t count = frames.load(std::memory_order_relaxed)) return count;
    return 0;
}

Message refused(std::string why) { return Message{"refused", {}}.with("why", std::move(why)); }

// ---- the answers ---------------------------------------------------------------------------------------------------

Message state(const char* word) {
    Recorder& r = recorder();
    Message answer{word, {}};
    answer.with("now", monotonicNs()).with("frames", framesSoFar()).with("lost", r.lost.load());
    const RunBy by = r.active.load() ? r.runBy.load() : RunBy::None;
    answer.with("recording", by == RunBy::None ? "no" : by == RunBy::Client ? "joined" : "own");
    const Lock guard(r.outputMutex);
    std::string trouble;
    if (r.moments) {
        const Moments::Saved& saved = r.moments->saved();
        answer.with("moments", textOf(r.moments->plan())).with("saves", uint64_t{saved.number});
        if (!saved.path.empty()) answer.with("saved", saved.path).with("because", saved.because);
        trouble = saved.trouble;
    }
    const Lock lanesGuard(r.lanesMutex);
    if (by != RunBy::None) answer.with("path", r.path);
    if (trouble.empty()) trouble = r.status;
    if (!trouble.empty()) answer.with("status", trouble);
    return answer;
}

Message hello(const Offer& offer) FUGATO_NEEDS(offer.mutex) {
    Message answer = state("program");
    answer.with("version", uint64_t{control::kVersion});
    std::string program = offer.program, build = offer.build;
    {
        Recorder& r = recorder();
        const Lock guard(r.lanesMutex);
        if (program.empty()) program = r.program;
        if (build.empty()) build = r.build;
    }
    return answer.with("name", program.empty() ? program_invocation_short_name : program).with("build", build);
}

Message join(Offer& offer, Client& client, const Message& request, int file) FUGATO_NEEDS(offer.mutex) {
    Recorder& r = recorder();
    const Lock guard(runMutex());
    if (r.active.load()) {
        Message answer = refused("it is being recorded already");
        const Lock lanesGuard(r.lanesMutex);
        return answer.with("path", r.path);
    }
    std::optional<MomentPlan> moments;
    if (!request.field("moments").empty()) {
        moments = momentPlanIn(request.field("moments"));
        if (!moments) return refused("what is to be saved is not understood: " + std::string(request.field("moments")));
    } else if (file < 0) {
        return refused("no file was handed over");
    }
    fug_options options = offer.options;
    options.descriptor = file;
    options.moments = nullptr;
    options.no_background = 0;
    if (!options.os) options.os = FUG_OS_SWITCHES | FUG_OS_SAMPLES | FUG_OS_BLOCKING | FUG_OS_LOAD;
    if (&fug_is_preloaded) options.os |= FUG_OS_STACK_COPIES;  // most unmodified programs have no frame pointers
    if (!request.field("collect").empty()) options.os = osActivitiesIn(request.field("collect"));
    const std::string path(request.field("path"));
    if (const int error = start(path.c_str(), options, RunBy::Client, moments)) {
        const Lock lanesGuard(r.lanesMutex);
        return refused(*r.status ? r.status : std::strerror(error));
    }
    client.records = true;
    offer.detailsBefore = r.details.load();
    return state("recording");
}

/// The program is as before it was joined.
void leave(const Offer& offer, Client& client) FUGATO_NEEDS(offer.mutex) {
    if (!client.records) return;
    client.records = false;
    const Lock guard(runMutex());
    Recorder& r = recorder();
    if (r.runBy.load() != RunBy::Client) return;  // the program has begun a recording of its own since
    stop();
    const DetailSettings* const before = offer.detailsBefore;
    if (r.details.load() == before) return;
    changeDetails([&](DetailSettings& details) { details = before ? *before : DetailSettings{}; });
}

Message detail(const Message& request) {
    const std::string category(request.field("category"));
    int level = 0;
    if (std::sscanf(std::string(request.field("level")).c_str(), "%d", &level) != 1 || level < -1 || level > 2)
        return refused("the level is not one of -1, 0, 1, 2");
    setDetail(category.empty() ? nullptr : category.c_str(), level);
    return {"done", {}};
}

Message categories() {
    Recorder& r = recorder();
    Message answer{"categories", {}};
    const Lock guard(r.lanesMutex);
    const DetailSettings* const details = r.details.load();
    std::set<std::string> known;
    for (const auto& [site, told] : r.sites) known.insert(told.category);
    for (const std::string& one : known)
        answer.with("category", std::to_string(details ? details->of(one) : 2) + " " + one);
    return answer;
}

Message answerTo(Offer& offer, Client& client, const Message& request, int file) FUGATO_NEEDS(offer.mutex) {
    if (request.word == "hello") return hello(offer);
    if (request.word == "look") return state("state");
    if (request.word == "record") return join(offer, client, request, file);
    if (request.word == "leave") {
        leave(offer, client);
        return {"left", {}};
    }
    if (request.word == "detail") return detail(request);
    if (request.word == "categories") return categories();
    if (request.word == "save") {
        {
            const Lock guard(recorder().outputMutex);
            if (!recorder().moments) return refused("nothing is held to be saved: all of it is recorded");
        }
        askForMoment(std::string(request.field("why")));
        return {"done", {}};
    }
    return refused("\"" + request.word + "\" is not known to this version of the recorder");
}

// ---- the thread ----------------------------------------------------------------------------------------------------

/// False where it is over.
bool serve(Offer& offer, Client& client) FUGATO_NEEDS(offer.mutex) {
    const Received received = control::receiveMessage(client.connection.get());
    const Descriptor file(received.file);
    if (received.what == Received::What::Nothing) return true;
    if (received.what == Received::What::End) return false;
    return control::sendMessage(client.connection.get(), answerTo(offer, client, received.message, file.get()));
}

void accept(Offer& offer) FUGATO_NEEDS(offer.mutex) {
    Descriptor connection(::accept4(offer.listening.get(), nullptr, nullptr, SOCK_CLOEXEC | SOCK_NONBLOCK));
    if (connection && offer.clients.size() < kMostClients && control::peerOf(connection.get()))
        offer.clients.push_back({std::move(connection)});
}

void* controlThread(void*) {
    inside = true;
    pthread_setname_np(pthread_self(), "fugato control");
    Offer& offer = offered();
    std::vector<pollfd> waiting;
    while (!offer.quit.load()) {
        try {
            const Lock guard(offer.mutex);
            waiting = {{offer.wake.get(), POLLIN, 0}, {offer.listening.get(), POLLIN, 0}};
            for (const Client& client : offer.clients) waiting.push_back({client.connection.get(), POLLIN, 0});
        } catch (const std::bad_alloc&) {
        }
        if (::poll(waiting.data(), waiting.size(), -1) <= 0) continue;
        if (offer.quit.load()) break;
        try {
            const Lock guard(offer.mutex);
            for (size_t i = waiting.size(); i-- > 2;) {
                Client& client = offer.clients[i - 2];
                if (!waiting[i].revents || serve(offer, client)) continue;
                leave(offer, client);
                offer.clients.erase(offer.clients.begin() + static_cast<ptrdiff_t>(i - 2));
            }
            if (waiting[1].revents) accept(offer);
        } catch (const std::bad_alloc&) {  // the request is left unanswered
        }
    }
    return nullptr;
}

/// Frees no memory: it may be a child after fork.
void closeAll(Offer& offer) FUGATO_NEEDS(offer.mutex) {
    framesAreCounted.store(false);
    offer.clients.clear();
    offer.listening = Descriptor();
    offer.wake = Descriptor();
    offer.path.clear();
}

/// A socket that listens, or an errno value.
int listen(Offer& offer) FUGATO_NEEDS(offer.mutex) {
    const std::string folder = control::socketFolder();
    (void)::mkdir(folder.c_str(), 0700);
    if (const int error = control::lookAtSocketFolder(folder)) return error;
    const std::string path = unknownName(folder, std::to_string(::getpid()).append("-").c_str(), ".sock");
    Descriptor listening(control::listenAt(path, kMostClients));
    if (!listening) return errno;
    Descriptor wake(::eventfd(0, EFD_CLOEXEC));
    if (!wake) {
        const int error = errno;
        ::unlink(path.c_str());
        return error;
    }
    offer.path = path;
    offer.listening = std::move(listening);
    offer.wake = std::move(wake);
    return 0;
}

}  // namespace

int offer(const fug_options& options) {
    Offer& offer = offered();
    const SetUpCall here;
    try {
        const Lock guard(offer.mutex);
        if (options.program) offer.program = options.program;
        if (options.build) offer.build = options.build;
        if (options.buffer_folder) offer.bufferFolder = options.buffer_folder;
        offer.options = options;
        offer.options.program = offer.program.empty() ? program_invocation_short_name : offer.program.c_str();
        offer.options.build = offer.build.c_str();
        if (options.buffer_folder) offer.options.buffer_folder = offer.bufferFolder.c_str();
        if (offer.listening) return 0;
        if (!fug_recording()) chooseClock(options);
        seeToExit();
        int error = listen(offer);
        offer.quit.store(false);
        if (!error && !startThread(offer.thread, controlThread)) error = EAGAIN;
        if (error) {
            if (!offer.path.empty()) ::unlink(offer.path.c_str());
            closeAll(offer);
            return error;
        }
        framesAreCounted.store(true);
        return 0;
    } catch (const std::bad_alloc&) {
        return ENOMEM;
    }
}

void endOffer() {
    Offer& offer = offered();
    const SetUpCall here;
    pthread_t thread{};
    {
        const Lock guard(offer.mutex);
        if (!offer.listening) return;
        ::unlink(offer.path.c_str());
        thread = offer.thread;
        offer.quit.store(true);
        const uint64_t one = 1;
        (void)!::write(offer.wake.get(), &one, sizeof one);
    }
    pthread_join(thread, nullptr);
    const Lock guard(offer.mutex);
    closeAll(offer);
}

void lockControl() FUGATO_NOT_CHECKED { offered().mutex.lock(); }
void unlockControl(bool inChild) FUGATO_NOT_CHECKED {  // lockControl() took it
    Offer& offer = offered();
    if (inChild) closeAll(offer);
    offer.mutex.unlock();
}

void askForMoment(std::string why) {
    Recorder& r = recorder();
    const Lock guard(r.lanesMutex);
    r.askedToSave = why.empty() ? "now" : std::move(why);
}

}  // namespace fugato::recording
