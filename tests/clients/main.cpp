// SPDX-License-Identifier: GPL-3.0-or-later
// A program of somebody else's that records itself; built against the installed package and as a
// subfolder, with every compiler there is.
#include <cstdint>
#include <cstdlib>
#include <fugato/fugato.hpp>
#include <fugato/opengl.hpp>
#include <memory>
#include <new>
#include <string>

// Tells something after the recording has ended, when static objects go.
struct AtTheEnd {
    ~AtTheEnd() {
        FUG_MARK("Too late");
        fug_point(FUG_INFO, "too late");
    }
} atTheEnd;

int main(int argc, char** argv) {
    if (argc < 2) return 2;
    // A size near the largest is refused, and does not begin again at 0 where it is rounded up.
    volatile std::size_t largest = SIZE_MAX - 8;
    if (argc > 2 && ::operator new(largest, std::align_val_t(64), std::nothrow)) return 4;
    const fug::Recording recording(argv[1], fug::options("client", "7"));
    if (!recording.ok()) return 1;
    const fug::Series loop("loop", 16'666'667);
    fug::GlQueue gpu([](const char*) -> fug::GlQueue::Function { return nullptr; });  // without OpenGL
    for (int i = 0; i < 10; ++i) {
        const fug::Frame frame(loop);
        FUG_MARK("Turn", "client", "one turn");
        FUG_ARGUMENT("turn", i);
        FUG_GL_MARK(gpu, "Picture");
        const auto kept = std::make_unique<std::string>(1000, 'x');
        void* volatile plain = std::malloc(77);  // volatile: or the compiler leaves it out
        std::free(plain);
        if (kept->size() != 1000) return 3;
    }
    return 0;
}
