// SPDX-License-Identifier: GPL-3.0-or-later
//
// The times of devices (fugato/opengl.hpp, fugato/vulkan.hpp): with the software drivers, with and without what makes
// them good, and with an OpenGL made up to misbehave.
#define VK_NO_PROTOTYPES
#include <dlfcn.h>
#include <vulkan/vulkan_core.h>

#include <QTemporaryDir>
#include <QtTest>
#include <fugato/opengl.hpp>
#include <fugato/vulkan.hpp>

#include "core/model/open_recording.h"

using namespace fugato;

namespace {

// ---- an OpenGL that does as it is told -------------------------------------------------------------------

struct MadeUp {
    const char* version = "4.6.0";
    const char* extensions = "";
    const char* missing = "";
    int bits = 64;
    int disjoint = 0;
    unsigned queries = 0;                                 // that were made
    std::vector<uint64_t> times{0};                       // of each query, once it was asked for
    uint64_t now = 1'000'000'000, finished = UINT64_MAX;  // what is later has not happened yet
    int waited = 0;                                       // results that were asked for before they were there
} madeUp;

const unsigned char* madeUpString(unsigned what) {
    return reinterpret_cast<const unsigned char*>(what == 0x1F02   ? madeUp.version
                                                  : what == 0x1F03 ? madeUp.extensions
                                                                   : "made up");
}
void madeUpIntegerv(unsigned what, int* value) { *value = what == 0x8FBB ? std::exchange(madeUp.disjoint, 0) : 0; }
void madeUpGen(int count, unsigned* names) {
    for (int i = 0; i < count; ++i) names[i] = ++madeUp.queries;
    madeUp.times.resize(madeUp.queries + 1);
}
void madeUpDelete(int count, const unsigned*) { madeUp.queries -= static_cast<unsigned>(count); }
void madeUpCounter(unsigned query, unsigned) { madeUp.times[query] = madeUp.now += 100'000; }
void madeUpQueryiv(unsigned, unsigned, int* bits) { *bits = madeUp.bits; }
void madeUpObjectuiv(unsigned query, unsigned, unsigned* there) { *there = madeUp.times[query] <= madeUp.finished; }
uint64_t cut(uint64_t time) { return madeUp.bits < 64 ? time & ((uint64_t{1} << madeUp.bits) - 1) : time; }
void madeUpObjectui64v(unsigned query, unsigned, uint64_t* time) {
    madeUp.waited += madeUp.times[query] > madeUp.finished;
    *time = cut(madeUp.times[query]);
}
void madeUpInteger64v(unsigned, int64_t* now) { *now = static_cast<int64_t>(cut(madeUp.now)); }

fug::GlQueue::Function loadMadeUp(const char* name) {
    static const std::map<std::string, fug::GlQueue::Function> all = {
        {"glGetString", reinterpret_cast<fug::GlQueue::Function>(madeUpString)},
        {"glGetIntegerv", reinterpret_cast<fug::GlQueue::Function>(madeUpIntegerv)},
        {"glGenQueries", reinterpret_cast<fug::GlQueue::Function>(madeUpGen)},
        {"glDeleteQueries", reinterpret_cast<fug::GlQueue::Function>(madeUpDelete)},
        {"glQueryCounter", reinterpret_cast<fug::GlQueue::Function>(madeUpCounter)},
        {"glGetQueryiv", reinterpret_cast<fug::GlQueue::Function>(madeUpQueryiv)},
        {"glGetQueryObjectuiv", reinterpret_cast<fug::GlQueue::Function>(madeUpObjectuiv)},
        {"glGetQueryObjectui64v", reinterpret_cast<fug::GlQueue::Function>(madeUpObjectui64v)},
        {"glGetInteger64v", reinterpret_cast<fug::GlQueue::Function>(madeUpInteger64v)}};
    std::string plain = name;
    const bool es = std::strncmp(madeUp.version, "OpenGL ES", 9) == 0;
    if (plain == madeUp.missing) return nullptr;
    if (es && plain.size() > 3 && plain.substr(plain.size() - 3) == "EXT") plain.resize(plain.size() - 3);
    const auto found = all.find(plain);
    return found == all.end() ? nullptr : found->second;
}

/// A thread's or device's lane, or null.
const Lane* laneOf(const Recording& r, const char* name) {
    for (const Lane& lane : r.lanes)
        if (lane.name == name) return &lane;
    return nullptr;
}

/// Markers of a name: begin and end of each.
std::vector<std::pair<int64_t, int64_t>> marksOf(const Recording& r, const Lane& lane, const std::string& name) {
    std::vector<std::pair<int64_t, int64_t>> found;
    for (const MarkerRow& row : lane.rows)
        for (uint32_t i = 0; i < row.size(); ++i)
            if (r.nameOf(row.path(i)) == name) found.emplace_back(row.begin(i), row.end(i));
    return found;
}

// ---- Vulkan ------------------------------------------------------------------------------------------------

struct Vulkan {
    PFN_vkGetInstanceProcAddr get = nullptr;
    VkInstance instance = VK_NULL_HANDLE;
    VkPhysicalDevice physical = VK_NULL_HANDLE;
    VkDevice device = VK_NULL_HANDLE;
    VkQueue queue = VK_NULL_HANDLE;
    VkCommandPool pool = VK_NULL_HANDLE;
    VkBuffer buffer = VK_NULL_HANDLE;
    VkDeviceMemory memory = VK_NULL_HANDLE;

    template <class Function>
    Function of(const char* name) const {
        return reinterpret_cast<Function>(get(instance, name));
    }
    explicit Vulkan(bool bothClocks) {
        void* const library = dlopen("libvulkan.so.1", RTLD_NOW);
        if (!library) return;
        get = reinterpret_cast<PFN_vkGetInstanceProcAddr>(dlsym(library, "vkGetInstanceProcAddr"));
        VkInstanceCreateInfo about{};
        about.sType = VK_STRUCTURE_TYPE_INSTANCE_CREATE_INFO;
        if (of<PFN_vkCreateInstance>("vkCreateInstance")(&about, nullptr, &instance) != VK_SUCCESS) return;
        uint32_t one = 1;
        of<PFN_vkEnumeratePhysicalDevices>("vkEnumeratePhysicalDevices")(instance, &one, &physical);
        if (!physical) return;
        const float priority = 1;
        VkDeviceQueueCreateInfo queues{};
        queues.sType = VK_STRUCTURE_TYPE_DEVICE_QUEUE_CREATE_INFO;
        queues.queueCount = 1;
        queues.pQueuePriorities = &priority;
        const char* const extension = "VK_EXT_calibrated_timestamps";
        VkDeviceCreateInfo wanted{};
        wanted.sType = VK_STRUCTURE_TYPE_DEVICE_CREATE_INFO;
        wanted.queueCreateInfoCount = 1;
        wanted.pQueueCreateInfos = &queues;
        wanted.enabledExtensionCount = bothClocks;
        wanted.ppEnabledExtensionNames = &extension;
        if (of<PFN_vkCreateDevice>("vkCreateDevice")(physical, &wanted, nullptr, &device) != VK_SUCCESS) return;
        of<PFN_vkGetDeviceQueue>("vkGetDeviceQueue")(device, 0, 0, &queue);
        VkCommandPoolCreateInfo pools{};
        pools.sType = VK_STRUCTURE_TYPE_COMMAND_POOL_CREATE_INFO;
        pools.flags = VK_COMMAND_POOL_CREATE_RESET_COMMAND_BUFFER_BIT;
        of<PFN_vkCreateCommandPool>("vkCreateCommandPool")(device, &pools, nullptr, &pool);
        VkBufferCreateInfo bytes{};
        bytes.sType = VK_STRUCTURE_TYPE_BUFFER_CREATE_INFO;
        bytes.size = 8 << 20;
        bytes.usage = VK_BUFFER_USAGE_TRANSFER_DST_BIT;
        of<PFN_vkCreateBuffer>("vkCreateBuffer")(device, &bytes, nullptr, &buffer);
        VkMemoryRequirements needs{};
        of<PFN_vkGetBufferMemoryRequirements>("vkGetBufferMemoryRequirements")(device, buffer, &needs);
        VkMemoryAllocateInfo room{};
        room.sType = VK_STRUCTURE_TYPE_MEMORY_ALLOCATE_INFO;
        room.allocationSize = needs.size;
        of<PFN_vkAllocateMemory>("vkAllocateMemory")(device, &room, nullptr, &memory);
        of<PFN_vkBindBufferMemory>("vkBindBufferMemory")(device, buffer, memory, 0);
    }
    ~Vulkan() {
        if (device) {
            finish();
            of<PFN_vkDestroyBuffer>("vkDestroyBuffer")(device, buffer, nullptr);
            of<PFN_vkFreeMemory>("vkFreeMemory")(device, memory, nullptr);
            of<PFN_vkDestroyCommandPool>("vkDestroyCommandPool")(device, pool, nullptr);
            of<PFN_vkDestroyDevice>("vkDestroyDevice")(device, nullptr);
        }
        if (instance) of<PFN_vkDestroyInstance>("vkDestroyInstance")(instance, nullptr);
    }
    VkCommandBuffer newCommands() const {
        VkCommandBufferAllocateInfo wanted{};
        wanted.sType = VK_STRUCTURE_TYPE_COMMAND_BUFFER_ALLOCATE_INFO;
        wanted.commandPool = pool;
        wanted.commandBufferCount = 1;
        VkCommandBuffer made = VK_NULL_HANDLE;
        of<PFN_vkAllocateCommandBuffers>("vkAllocateCommandBuffers")(device, &wanted, &made);
        return made;
    }
    void begin(VkCommandBuffer commands) const {
        VkCommandBufferBeginInfo how{};
        how.sType = VK_STRUCTURE_TYPE_COMMAND_BUFFER_BEGIN_INFO;
        how.flags = VK_COMMAND_BUFFER_USAGE_SIMULTANEOUS_USE_BIT;
        of<PFN_vkBeginCommandBuffer>("vkBeginCommandBuffer")(commands, &how);
    }
    void end(VkCommandBuffer commands) const { of<PFN_vkEndCommandBuffer>("vkEndCommandBuffer")(commands); }
    void fill(VkCommandBuffer into, int times) const {
        for (int i = 0; i < times; ++i)
            of<PFN_vkCmdFillBuffer>("vkCmdFillBuffer")(into, buffer, 0, VK_WHOLE_SIZE, static_cast<uint32_t>(i));
    }
    void submit(VkCommandBuffer commands) const {
        VkSubmitInfo what{};
        what.sType = VK_STRUCTURE_TYPE_SUBMIT_INFO;
        what.commandBufferCount = 1;
        what.pCommandBuffers = &commands;
        of<PFN_vkQueueSubmit>("vkQueueSubmit")(queue, 1, &what, VK_NULL_HANDLE);
    }
    void finish() const { of<PFN_vkDeviceWaitIdle>("vkDeviceWaitIdle")(device); }
};

constexpr int64_t kClocksAgree = 500'000;  // ns: so far both clocks are believed

}  // namespace

class DeviceTimesTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;

    std::string file(const char* name) const { return folder_.filePath(name).toStdString(); }
    static std::shared_ptr<const Recording> opened(const std::string& path) {
        const auto recording = openRecording(path);
        if (!recording) qWarning("%s", recording.failure().sentence.c_str());
        return recording ? *recording : nullptr;
    }
    void start(const char* name) {
        madeUp = {};
        fug_options options{};
        options.existing = FUG_REPLACE_EXISTING;
        QCOMPARE(fug_start(file(name).c_str(), &options), 0);
        fug_name_thread("main", "", FUG_LANE_THREAD);
    }

    /// Draws with whatever context is current; checks what was told of it.
    void drawAndCheck(const char* name, fug::GlQueue::Load load) {
        start(name);
        const auto find = [&](const char* function) { return load(function); };
        const auto clearColor = reinterpret_cast<void (*)(float, float, float, float)>(find("glClearColor"));
        const auto clear = reinterpret_cast<void (*)(unsigned)>(find("glClear"));
        const auto finish = reinterpret_cast<void (*)()>(find("glFinish"));
        const auto error = reinterpret_cast<unsigned (*)()>(find("glGetError"));
        while (error()) {
        }
        fug_series("frames", 0);
        {
            fug::GlQueue gpu(load);
            FUG_SITE_HERE(waitSite, "Wait for GPU");
            for (int i = 0; i < 50; ++i) {
                {
                    FUG_MARK("Ask");
                    FUG_GL_MARK(gpu, "Picture", "gpu");
                    {
                        FUG_GL_MARK(gpu, "Water");
                        clearColor(0, 0.1f, 0.2f, 1);
                        clear(0x4000);
                    }
                    FUG_GL_MARK(gpu, "Boats");
                    clear(0x4000);
                }
                const int64_t since = fug::monotonicNs();
                const int began = fug_wait_begin(&waitSite, 0, FUG_WAIT_GPU);
                finish();
                gpu.collect();
                fug_wait_end(began, gpu.finishedSince(since));
            }
            QCOMPARE(gpu.trouble(), nullptr);
            QCOMPARE(gpu.leftOut(), uint64_t{0});
        }
        QCOMPARE(error(), 0u);
        fug_stop();
        const auto r = opened(file(name));
        QVERIFY(r);
        const Lane* const gpu = laneOf(*r, "GPU");
        const Lane* const main = laneOf(*r, "main");
        QVERIFY(gpu && main && gpu->kind == LaneKind::Queue);
        const auto pictures = marksOf(*r, *gpu, "Picture"), water = marksOf(*r, *gpu, "Water"),
                   boats = marksOf(*r, *gpu, "Boats"), asked = marksOf(*r, *main, "Ask");
        QCOMPARE(pictures.size(), size_t{50});
        QCOMPARE(water.size(), size_t{50});
        QCOMPARE(boats.size(), size_t{50});
        QCOMPARE(main->waits.size(), size_t{50});
        int ended = 0;
        for (size_t i = 0; i < 50; ++i) {
            QVERIFY(pictures[i].first <= water[i].first && water[i].second <= boats[i].first &&
                    boats[i].second <= pictures[i].second);
            // Not before it was asked for, and finished when the wait for it was over.
            const Wait& wait = main->waits[i];
            QVERIFY(pictures[i].first >= asked[i].first - kClocksAgree);
            QVERIFY(pictures[i].second <= wait.end + kClocksAgree);
            if (!wait.link) continue;  // it had finished before
            ++ended;
            const auto from = r->linkSource(wait.link);
            QVERIFY(from && &r->lanes[from->lane] == gpu);
        }
        QVERIFY2(ended > 0, "at least some waits name what ended them");
    }

private slots:
    // ---- OpenGL, made up ----------------------------------------------------------------------------------

    void whatHasNotFinishedIsToldLaterAndNeverWaitedFor() {
        start("later.fugato");
        {
            fug::GlQueue gpu(loadMadeUp);
            madeUp.finished = 0;
            uint64_t second = 0;
            for (int i = 0; i < 3; ++i) {
                { FUG_GL_MARK(gpu, "Picture"); }
                gpu.collect();
                if (i == 1) second = madeUp.now;
            }
            madeUp.finished = second;
            gpu.collect();
        }
        QCOMPARE(madeUp.waited, 0);
        QCOMPARE(madeUp.queries, 0u);  // all were given back
        fug_stop();
        const auto r = opened(file("later.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU") : nullptr;
        QVERIFY(gpu);
        const auto marks = marksOf(*r, *gpu, "Picture");
        QCOMPARE(marks.size(), size_t{2});
        for (const auto& [begin, end] : marks) QCOMPARE(end - begin, int64_t{100'000});
        QVERIFY(!r->repairs.any());
    }

    void whatIsMissingIsSaid_data() {
        QTest::addColumn<QByteArray>("version");
        QTest::addColumn<QByteArray>("extensions");
        QTest::addColumn<QByteArray>("missing");
        QTest::addColumn<int>("bits");
        QTest::addColumn<QByteArray>("trouble");
        const auto row = [](const char* name, const char* version, const char* extensions, const char* missing,
                            int bits, const char* trouble) {
            QTest::newRow(name) << QByteArray(version) << QByteArray(extensions) << QByteArray(missing) << bits
                                << QByteArray(trouble);
        };
        row("good", "3.3", "", "", 64, "");
        row("old with the extension", "2.1", "GL_ARB_x GL_ARB_timer_query", "", 64, "");
        row("old without", "2.1", "GL_ARB_timer_query_not GL_EXT_timer_query", "", 64,
            "this OpenGL does not tell the device's time");
        row("small devices", "OpenGL ES 2.0", "GL_EXT_disjoint_timer_query", "", 36, "");
        row("small devices without", "OpenGL ES 3.2", "", "", 64, "this OpenGL does not tell the device's time");
        row("no clock", "4.6", "", "", 0, "the device has no clock");
        row("a function missing", "4.6", "", "glQueryCounter", 64, "a function of OpenGL was not found");
        row("nothing there", "4.6", "", "glGetString", 64, "OpenGL was not found");
    }
    void whatIsMissingIsSaid() {
        QFETCH(QByteArray, version);
        QFETCH(QByteArray, extensions);
        QFETCH(QByteArray, missing);
        QFETCH(int, bits);
        QFETCH(QByteArray, trouble);
        start("missing.fugato");
        madeUp.version = version.constData();
        madeUp.extensions = extensions.constData();
        madeUp.missing = missing.constData();
        madeUp.bits = bits;
        {
            fug::GlQueue gpu(loadMadeUp);
            for (int i = 0; i < 3; ++i) {
                { FUG_GL_MARK(gpu, "Picture"); }
                gpu.collect();
            }
            QCOMPARE(QByteArray(gpu.trouble()), trouble);
        }
        fug_stop();
        const auto r = opened(file("missing.fugato"));
        QVERIFY(r);
        const Lane* const gpu = laneOf(*r, "GPU");
        QCOMPARE(gpu ? marksOf(*r, *gpu, "Picture").size() : 0, size_t(trouble.isEmpty() ? 3 : 0));
    }

    void aClockOfFewBitsGoesOnWhenTheyAreUsedUp() {
        start("bits.fugato");
        {
            madeUp.bits = 20;  // a millisecond or so
            fug::GlQueue gpu(loadMadeUp);
            for (int i = 0; i < 40; ++i) {
                { FUG_GL_MARK(gpu, "Picture"); }
                gpu.collect();
            }
        }
        fug_stop();
        const auto r = opened(file("bits.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU") : nullptr;
        QVERIFY(gpu);
        const auto marks = marksOf(*r, *gpu, "Picture");
        QCOMPARE(marks.size(), size_t{40});
        for (size_t i = 0; i < marks.size(); ++i) {
            QCOMPARE(marks[i].second - marks[i].first, int64_t{100'000});
            if (i) QCOMPARE(marks[i].first - marks[i - 1].second, int64_t{100'000});
        }
    }

    void aClockThatJumpedTellsNothingOfWhatWasOnItsWay() {
        start("jumped.fugato");
        {
            madeUp.version = "OpenGL ES 3.0";
            madeUp.extensions = "GL_EXT_disjoint_timer_query";
            fug::GlQueue gpu(loadMadeUp);
            { FUG_GL_MARK(gpu, "Before"); }
            madeUp.disjoint = 1;
            gpu.collect();
            { FUG_GL_MARK(gpu, "After"); }
            gpu.collect();
        }
        fug_stop();
        const auto r = opened(file("jumped.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU") : nullptr;
        QVERIFY(gpu);
        QCOMPARE(marksOf(*r, *gpu, "Before").size(), size_t{0});
        QCOMPARE(marksOf(*r, *gpu, "After").size(), size_t{1});
    }

    void tooManyMarksOnTheirWayAreLeftOutWhole() {
        start("many.fugato");
        uint64_t leftOut = 0;
        {
            fug::GlQueue gpu(loadMadeUp);
            madeUp.finished = 0;
            FUG_GL_MARK(gpu, "Picture");
            for (int i = 0; i < 10'000; ++i) {
                FUG_GL_MARK(gpu, "Part");
            }
            leftOut = gpu.leftOut();
        }
        fug_stop();
        QVERIFY2(leftOut > 5000 && leftOut < 10'000, qPrintable(QString::number(leftOut)));
        QVERIFY(madeUp.times.size() <= 8193);
    }

    void withoutARecordingNothingIsAskedOfOpenGl() {
        madeUp = {};
        fug::GlQueue gpu(loadMadeUp);
        for (int i = 0; i < 3; ++i) {
            { FUG_GL_MARK(gpu, "Picture"); }
            gpu.collect();
        }
        QCOMPARE(madeUp.queries, 0u);
        QCOMPARE(gpu.trouble(), nullptr);
    }

    // ---- OpenGL, by the software driver -------------------------------------------------------------------

    void openGlTellsWhatTheDeviceDid_data() {
        QTest::addColumn<unsigned>("api");
        QTest::addRow("OpenGL") << 0x30A2u;
        QTest::addRow("OpenGL ES") << 0x30A0u;
    }
    void openGlTellsWhatTheDeviceDid() {
        QFETCH(unsigned, api);
        void* const egl = dlopen("libEGL.so.1", RTLD_NOW);
        if (!egl) QSKIP("EGL is not installed.");
        static fug::GlQueue::Function (*get)(const char*) = nullptr;
        get = reinterpret_cast<fug::GlQueue::Function (*)(const char*)>(dlsym(egl, "eglGetProcAddress"));
        const auto display = reinterpret_cast<void* (*)(unsigned, void*, const int*)>(get("eglGetPlatformDisplayEXT"))(
            0x31DD, nullptr, nullptr);  // surfaceless
        int major = 0, minor = 0;
        if (!display ||
            !reinterpret_cast<unsigned (*)(void*, int*, int*)>(dlsym(egl, "eglInitialize"))(display, &major, &minor))
            QSKIP("EGL has no display of its own here.");
        reinterpret_cast<unsigned (*)(unsigned)>(dlsym(egl, "eglBindAPI"))(api);
        const int wanted[] = {0x3033, 0x0001, 0x3040, api == 0x30A0 ? 0x0004 : 0x0008,
                              0x3038};  // pbuffers, of that API
        void* config = nullptr;
        int count = 0;
        reinterpret_cast<unsigned (*)(void*, const int*, void**, int, int*)>(dlsym(egl, "eglChooseConfig"))(
            display, wanted, &config, 1, &count);
        QVERIFY(count == 1);
        const int size[] = {0x3057, 256, 0x3056, 256, 0x3038}, version[] = {0x3098, 3, 0x3038};
        void* const surface = reinterpret_cast<void* (*)(void*, void*, const int*)>(
            dlsym(egl, "eglCreatePbufferSurface"))(display, config, size);
        void* const context = reinterpret_cast<void* (*)(void*, void*, void*, const int*)>(
            dlsym(egl, "eglCreateContext"))(display, config, nullptr, version);
        const auto makeCurrent =
            reinterpret_cast<unsigned (*)(void*, void*, void*, void*)>(dlsym(egl, "eglMakeCurrent"));
        QVERIFY(makeCurrent(display, surface, surface, context));
        drawAndCheck("gl.fugato", [](const char* name) { return get(name); });
        makeCurrent(display, nullptr, nullptr, nullptr);
        reinterpret_cast<unsigned (*)(void*)>(dlsym(egl, "eglTerminate"))(display);
    }

    // ---- Vulkan, by the software driver -------------------------------------------------------------------

    void vulkanTellsWhatTheDeviceDid_data() {
        QTest::addColumn<bool>("bothClocks");
        QTest::addRow("both clocks at once") << true;
        QTest::addRow("by what was submitted") << false;
    }
    void vulkanTellsWhatTheDeviceDid() {
        QFETCH(bool, bothClocks);
        const Vulkan vulkan(bothClocks);
        if (!vulkan.device) QSKIP("Vulkan is not installed.");
        start("vulkan.fugato");
        {
            fug::VulkanDevice device(vulkan.instance, vulkan.physical, vulkan.device, vulkan.get);
            QVERIFY(device.bitsOf(0) > 0);
            QCOMPARE(device.bitsOf(1000), 0u);
            fug::VulkanQueue graphics(device, 0, "GPU graphics");
            fug::VulkanCommands times(device, 0);
            const VkCommandBuffer commands = vulkan.newCommands();
            FUG_SITE_HERE(pictureSite, "Picture");
            FUG_SITE_HERE(waitSite, "Wait for GPU");
            const auto submitAndWait = [&] {
                {
                    FUG_MARK("Ask");
                    graphics.submitted(times);
                    vulkan.submit(commands);
                }
                const int64_t since = fug::monotonicNs();
                const int began = fug_wait_begin(&waitSite, 0, FUG_WAIT_GPU);
                vulkan.finish();
                graphics.collect();
                fug_wait_end(began, graphics.finishedSince(since));
            };
            for (int i = 0; i < 40; ++i) {
                if (i < 20) {  // afterwards the same is submitted again and again
                    vulkan.begin(commands);
                    times.begin(commands, pictureSite);
                    {
                        FUG_VULKAN_MARK(times, "Water");
                        vulkan.fill(commands, 1);
                    }
                    {
                        FUG_VULKAN_MARK(times, "Spray");
                        vulkan.fill(commands, 4);
                    }
                    times.end();
                    vulkan.end(commands);
                }
                submitAndWait();
            }
        }
        fug_stop();
        const auto r = opened(file("vulkan.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU graphics") : nullptr;
        const Lane* const main = r ? laneOf(*r, "main") : nullptr;
        QVERIFY(gpu && main);
        QVERIFY(!r->repairs.any());
        const auto pictures = marksOf(*r, *gpu, "Picture"), spray = marksOf(*r, *gpu, "Spray"),
                   water = marksOf(*r, *gpu, "Water"), asked = marksOf(*r, *main, "Ask");
        QCOMPARE(pictures.size(), size_t{40});
        QCOMPARE(spray.size(), size_t{40});
        QCOMPARE(main->waits.size(), size_t{40});
        int64_t waterNs = 0, sprayNs = 0;
        int ended = 0;
        for (size_t i = 0; i < 40; ++i) {
            QVERIFY(pictures[i].first >= asked[i].first - kClocksAgree);
            QVERIFY(pictures[i].second <= main->waits[i].end + kClocksAgree);
            QVERIFY(pictures[i].first <= water[i].first && water[i].second <= spray[i].first &&
                    spray[i].second <= pictures[i].second);
            waterNs += water[i].second - water[i].first;
            sprayNs += spray[i].second - spray[i].first;
            if (!main->waits[i].link) continue;  // it had finished before
            ++ended;
            QCOMPARE(r->linkSource(main->waits[i].link)->lane, static_cast<uint32_t>(gpu - r->lanes.data()));
        }
        QVERIFY2(ended >= 20, qPrintable(QString::number(ended)));
        QVERIFY2(sprayNs > waterNs, "four times the work takes longer");
    }

    void commandBuffersThatGoBeforeTheirTimesAreReadAreLeftOut() {
        const Vulkan vulkan(true);
        if (!vulkan.device) QSKIP("Vulkan is not installed.");
        start("gone.fugato");
        {
            fug::VulkanDevice device(vulkan.instance, vulkan.physical, vulkan.device, vulkan.get);
            fug::VulkanQueue graphics(device, 0, "GPU graphics");
            FUG_SITE_HERE(twiceSite, "Twice");
            FUG_SITE_HERE(goneSite, "Gone");
            FUG_SITE_HERE(neverSite, "Never submitted");
            FUG_SITE_HERE(partSite, "Part");
            const VkCommandBuffer commands = vulkan.newCommands();
            fug::VulkanCommands twice(device, 0);
            vulkan.begin(commands);
            twice.begin(commands, twiceSite);
            for (int i = 0; i < 400; ++i) twice.end(twice.begin(partSite));  // more than fit
            twice.end();
            vulkan.end(commands);
            for (int i = 0; i < 2; ++i) {
                graphics.submitted(twice);
                vulkan.submit(commands);
            }
            const VkCommandBuffer others = vulkan.newCommands();
            {
                fug::VulkanCommands gone(device, 0);
                vulkan.begin(others);
                gone.begin(others, goneSite);
                gone.end();
                vulkan.end(others);
                graphics.submitted(gone);
                vulkan.submit(others);
                vulkan.finish();
            }
            fug::VulkanCommands never(device, 0);
            vulkan.begin(others);
            never.begin(others, neverSite);
            never.end();
            vulkan.end(others);
            graphics.submitted(never);  // and then it is not
            graphics.collect();
        }
        fug_stop();
        const auto r = opened(file("gone.fugato"));
        const Lane* const gpu = r ? laneOf(*r, "GPU graphics") : nullptr;
        QVERIFY(gpu);
        QCOMPARE(marksOf(*r, *gpu, "Twice").size(), size_t{1});
        QCOMPARE(marksOf(*r, *gpu, "Part").size(), size_t{fug::VulkanCommands::kMostMarks - 1});
        QCOMPARE(marksOf(*r, *gpu, "Gone").size(), size_t{0});
        QCOMPARE(marksOf(*r, *gpu, "Never submitted").size(), size_t{0});
        QVERIFY(!r->repairs.any());
    }
};

QTEST_GUILESS_MAIN(DeviceTimesTest)
#include "device_times_test.moc"
