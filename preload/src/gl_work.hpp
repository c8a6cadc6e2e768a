// SPDX-License-Identifier: GPL-3.0-or-later
//
// What OpenGL does on the device for an unmodified program, as a lane for each context: the drawing of each picture,
// and within it the groups that the program names (KHR_debug, EXT_debug_marker). Times by fugato/opengl.hpp.
#pragma once

#include <cstddef>
#include <cstdint>

#include "real_function.hpp"

/// DRAW(name, (parameters), (arguments)): what asks the device for work. The first of a picture begins it.
#define FUGATO_GL_DRAWS(DRAW)                                                                                          \
    DRAW(glClear, (unsigned mask), (mask))                                                                             \
    DRAW(glBegin, (unsigned mode), (mode))                                                                             \
    DRAW(glCallList, (unsigned list), (list))                                                                          \
    DRAW(glCallLists, (int count, unsigned type, const void* lists), (count, type, lists))                             \
    DRAW(glDrawArrays, (unsigned mode, int first, int count), (mode, first, count))                                    \
    DRAW(glDrawElements, (unsigned mode, int count, unsigned type, const void* indices), (mode, count, type, indices)) \
    DRAW(glDrawRangeElements,                                                                                          \
         (unsigned mode, unsigned start, unsigned end, int count, unsigned type, const void* indices),                 \
         (mode, start, end, count, type, indices))                                                                     \
    DRAW(glDrawArraysInstanced, (unsigned mode, int first, int count, int times), (mode, first, count, times))         \
    DRAW(glDrawElementsInstanced, (unsigned mode, int count, unsigned type, const void* indices, int times),           \
         (mode, count, type, indices, times))                                                                          \
    DRAW(glDrawElementsBaseVertex, (unsigned mode, int count, unsigned type, const void* indices, int base),           \
         (mode, count, type, indices, base))                                                                           \
    DRAW(glDrawArraysIndirect, (unsigned mode, const void* what), (mode, what))                                        \
    DRAW(glDrawElementsIndirect, (unsigned mode, unsigned type, const void* what), (mode, type, what))                 \
    DRAW(glMultiDrawArrays, (unsigned mode, const int* firsts, const int* counts, int draws),                          \
         (mode, firsts, counts, draws))                                                                                \
    DRAW(glMultiDrawElements,                                                                                          \
         (unsigned mode, const int* counts, unsigned type, const void* const* indices, int draws),                     \
         (mode, counts, type, indices, draws))                                                                         \
    DRAW(glMultiDrawElementsIndirect, (unsigned mode, unsigned type, const void* what, int draws, int stride),         \
         (mode, type, what, draws, stride))                                                                            \
    DRAW(glDispatchCompute, (unsigned x, unsigned y, unsigned z), (x, y, z))                                           \
    DRAW(glBlitFramebuffer,                                                                                            \
         (int x0, int y0, int x1, int y1, int tox0, int toy0, int tox1, int toy1, unsigned mask, unsigned filter),     \
         (x0, y0, x1, y1, tox0, toy0, tox1, toy1, mask, filter))

extern "C" {
#define DRAW(name, parameters, arguments) void name parameters;
FUGATO_GL_DRAWS(DRAW)
#undef DRAW
void glNewList(unsigned list, unsigned mode);
void glEndList(void);
void glPushDebugGroup(unsigned source, unsigned id, int length, const char* message);
void glPushDebugGroupKHR(unsigned source, unsigned id, int length, const char* message);
void glPopDebugGroup(void);
void glPopDebugGroupKHR(void);
void glPushGroupMarkerEXT(int length, const char* marker);
void glPopGroupMarkerEXT(void);

int glXMakeCurrent(void* display, unsigned long drawable, void* context);
int glXMakeContextCurrent(void* display, unsigned long draw, unsigned long read, void* context);
void glXDestroyContext(void* display, void* context);
unsigned eglMakeCurrent(void* display, void* draw, void* read, void* context);
unsigned eglDestroyContext(void* display, void* context);
}

namespace fugato::preload {

// clang-format off
/// Groups, lists and contexts: X(name).
#define FUGATO_GL_CONTEXTS(X) \
    X(glNewList) X(glEndList) X(glPushDebugGroup) X(glPushDebugGroupKHR) X(glPopDebugGroup) X(glPopDebugGroupKHR) \
    X(glPushGroupMarkerEXT) X(glPopGroupMarkerEXT) X(glXMakeCurrent) X(glXMakeContextCurrent) X(glXDestroyContext) \
    X(eglMakeCurrent) X(eglDestroyContext)
// clang-format on

#define DRAW(name, parameters, arguments) inline RealFunction<decltype(::name)> real_##name(#name);
FUGATO_GL_DRAWS(DRAW)
#undef DRAW
#define X(name) inline RealFunction<decltype(::name)> real_##name(#name);
FUGATO_GL_CONTEXTS(X)
#undef X

/// The calling thread's picture is about to be shown, or the device to be waited for: its drawing ends here.
void endGlWork();
/// Tells what the device has finished; the link of what ended since `ns` (CLOCK_MONOTONIC), or 0.
uint64_t finishedGlWork(int64_t ns);

}  // namespace fugato::preload
