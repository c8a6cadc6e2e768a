// SPDX-License-Identifier: GPL-3.0-or-later
#include "gl_work.hpp"

#include <cstdio>
#include <cstring>
#include <fugato/opengl.hpp>
#include <unordered_map>

#include "hook.hpp"
#include "lookups.hpp"

namespace fugato::preload {

namespace {

fug_site kDrawing = PLACELESS_SITE("Drawing", "gpu", "What the device does for one picture");

/// What is known of a context of OpenGL. Never freed: the thread it is current in may still look at it.
struct Context {
    explicit Context(fug::GlQueue::Load load) : queue(load, name) {}
    char name[24] = "";  // from its first drawing on: some contexts are only made to ask what there is
    fug::GlQueue queue;
    std::vector<bool> groups;            // that are open, and whether they are marked
    std::atomic<bool> current{false};    // in some thread
    std::atomic<bool> destroyed{false};  // when it no longer is current
};

constexpr int kMostGroups = 64;
__thread Context* here = nullptr;
__thread bool drawing = false;    // the picture's first command has been given
__thread bool compiling = false;  // a display list, for later
__thread int groupMarks[kMostGroups];
__thread int groupDepth = 0;

std::mutex& contextsMutex() {
    static auto* const mutex = new std::mutex;  // never destroyed: threads may outlive it
    return *mutex;
}
std::unordered_map<void*, Context*>& contexts() {
    static auto* const all = new std::unordered_map<void*, Context*>;
    return *all;
}

/// `change` makes the context of `key` current, or none; functions are found by `load`.
template <class Change>
auto changeContext(void* key, fug::GlQueue::Load load, Change&& change) {
    Context* const before = here;
    if (before) {
        endGlWork();
        before->queue.collect();
    }
    const auto done = change();
    if (!done) return done;
    const KeepErrno keep;
    const OwnLock guard(contextsMutex());
    if (before) {
        before->current.store(false);
        if (before->destroyed.load()) before->queue.forget();
    }
    here = nullptr;
    drawing = false;
    if (!key) return done;
    Context*& context = contexts()[key];
    if (!context) context = new Context(load);
    context->current.store(true);
    here = context;
    return done;
}

void destroyContext(void* key) {
    const OwnLock guard(contextsMutex());
    const auto found = contexts().find(key);
    if (found == contexts().end()) return;
    Context& context = *found->second;
    contexts().erase(found);
    context.destroyed.store(true);
    if (&context == here || !context.current.load()) context.queue.forget();
}

/// A command for the device comes.
void beginGlWork() {
    if (drawing || compiling) return;
    drawing = true;
    if (!here || !recorded()) return;
    const KeepErrno keep;
    if (!*here->name) {
        static std::atomic<unsigned> number{0};
        const unsigned its = ++number;
        std::snprintf(here->name, sizeof here->name, its > 1 ? "GPU, context %u" : "GPU", its);
    }
    here->queue.begin(kDrawing);
}

void pushGroup(std::string_view name) {
    const KeepErrno keep;
    fug_site* const site = recorded() ? &siteNamed(name) : nullptr;
    if (groupDepth < kMostGroups) groupMarks[groupDepth] = site ? fug_begin(site) : 0;
    ++groupDepth;
    if (compiling || !here) return;
    beginGlWork();
    here->groups.push_back(site && here->queue.depth() && here->queue.begin(*site));
}
void popGroup() {
    const KeepErrno keep;
    if (groupDepth > 0 && --groupDepth < kMostGroups) fug_end(groupMarks[groupDepth]);
    if (compiling || !here || here->groups.empty()) return;
    here->queue.end(here->groups.back());
    here->groups.pop_back();
}
std::string_view textOf(const char* text, int length, bool zeroEnds) {
    if (!text) return {};
    return length < 0 || (zeroEnds && length == 0) ? std::string_view(text)
                                                   : std::string_view(text, static_cast<size_t>(length));
}

Function loadGlx(const char* name) {
    const auto* const bytes = reinterpret_cast<const unsigned char*>(name);
    if (auto* const get = real_glXGetProcAddressARB.get()) return get(bytes);
    return real_glXGetProcAddress.get() ? real_glXGetProcAddress.get()(bytes) : nullptr;
}
Function loadEgl(const char* name) {
    return real_eglGetProcAddress.get() ? real_eglGetProcAddress.get()(name) : nullptr;
}

}  // namespace

void endGlWork() {
    drawing = false;
    if (!here || !here->queue.depth()) return;
    const KeepErrno keep;
    here->groups.assign(here->groups.size(), false);
    while (here->queue.depth()) here->queue.end(true);
}

uint64_t finishedGlWork(int64_t ns) {
    if (!here) return 0;
    const KeepErrno keep;
    here->queue.collect();
    return here->queue.finishedSince(ns);
}

}  // namespace fugato::preload

using namespace fugato::preload;

#define DRAW(name, parameters, arguments)             \
    FUGATO_STANDS_IN void name parameters {           \
        beginGlWork();                                \
        fugato::preload::real_##name.get() arguments; \
    }
FUGATO_GL_DRAWS(DRAW)
#undef DRAW

FUGATO_STANDS_IN void glNewList(unsigned list, unsigned mode) {
    compiling = true;
    real_glNewList.get()(list, mode);
}
FUGATO_STANDS_IN void glEndList(void) {
    real_glEndList.get()();
    compiling = false;
}

FUGATO_STANDS_IN void glPushDebugGroup(unsigned source, unsigned id, int length, const char* message) {
    pushGroup(textOf(message, length, false));
    real_glPushDebugGroup.get()(source, id, length, message);
}
FUGATO_STANDS_IN void glPushDebugGroupKHR(unsigned source, unsigned id, int length, const char* message) {
    pushGroup(textOf(message, length, false));
    real_glPushDebugGroupKHR.get()(source, id, length, message);
}
FUGATO_STANDS_IN void glPopDebugGroup(void) {
    popGroup();
    real_glPopDebugGroup.get()();
}
FUGATO_STANDS_IN void glPopDebugGroupKHR(void) {
    popGroup();
    real_glPopDebugGroupKHR.get()();
}
FUGATO_STANDS_IN void glPushGroupMarkerEXT(int length, const char* marker) {
    pushGroup(textOf(marker, length, true));
    real_glPushGroupMarkerEXT.get()(length, marker);
}
FUGATO_STANDS_IN void glPopGroupMarkerEXT(void) {
    popGroup();
    real_glPopGroupMarkerEXT.get()();
}

// ---- contexts ------------------------------------------------------------------------------------------

FUGATO_STANDS_IN int glXMakeCurrent(void* display, unsigned long drawable, void* context) {
    return changeContext(context, loadGlx, [&] { return real_glXMakeCurrent.get()(display, drawable, context); });
}
FUGATO_STANDS_IN int glXMakeContextCurrent(void* display, unsigned long draw, unsigned long read, void* context) {
    return changeContext(context, loadGlx,
                         [&] { return real_glXMakeContextCurrent.get()(display, draw, read, context); });
}
FUGATO_STANDS_IN void glXDestroyContext(void* display, void* context) {
    destroyContext(context);
    real_glXDestroyContext.get()(display, context);
}
FUGATO_STANDS_IN unsigned eglMakeCurrent(void* display, void* draw, void* read, void* context) {
    return changeContext(context, loadEgl, [&] { return real_eglMakeCurrent.get()(display, draw, read, context); });
}
FUGATO_STANDS_IN unsigned eglDestroyContext(void* display, void* context) {
    destroyContext(context);
    return real_eglDestroyContext.get()(display, context);
}
