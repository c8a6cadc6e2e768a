// SPDX-License-Identifier: GPL-3.0-or-later
#include <SDL.h>
#include <SDL_opengl.h>

#include "on_device.h"

namespace {

class InOpenGl final : public OnDevice {
public:
    void draw(int sprays) override {
        push_(GL_DEBUG_SOURCE_APPLICATION, 1, -1, "Water");
        clearColor_(0, 0.2f, 0.4f, 1);
        clear_(GL_COLOR_BUFFER_BIT);
        pop_();
        flush_();
        push_(GL_DEBUG_SOURCE_APPLICATION, 2, 5, "Spray, and what is cut off");
        enable_(GL_BLEND);
        blend_(GL_SRC_ALPHA, GL_ONE);
        for (int i = 0; i < 2 * sprays; ++i) {
            begin_(GL_QUADS);
            color_(0.1f, 0.1f, 0.1f, 0.1f);
            for (const auto& [x, y] : {std::pair(-1.f, -1.f), {1.f, -1.f}, {1.f, 1.f}, {-1.f, 1.f}}) vertex_(x, y);
            end_();
        }
        pop_();
        flush_();
    }

private:
    template <class Function>
    static Function* find(Function*, const char* name) {
        return reinterpret_cast<Function*>(SDL_GL_GetProcAddress(name));
    }
    PFNGLPUSHDEBUGGROUPPROC push_ = find(push_, "glPushDebugGroup");
    PFNGLPOPDEBUGGROUPPROC pop_ = find(pop_, "glPopDebugGroup");
    decltype(&glClearColor) clearColor_ = find(clearColor_, "glClearColor");
    decltype(&glClear) clear_ = find(clear_, "glClear");
    decltype(&glFlush) flush_ = find(flush_, "glFlush");
    decltype(&glEnable) enable_ = find(enable_, "glEnable");
    decltype(&glBlendFunc) blend_ = find(blend_, "glBlendFunc");
    decltype(&glBegin) begin_ = find(begin_, "glBegin");
    decltype(&glColor4f) color_ = find(color_, "glColor4f");
    decltype(&glVertex2f) vertex_ = find(vertex_, "glVertex2f");
    decltype(&glEnd) end_ = find(end_, "glEnd");
};

}  // namespace

std::unique_ptr<OnDevice> inOpenGl() { return std::make_unique<InOpenGl>(); }
