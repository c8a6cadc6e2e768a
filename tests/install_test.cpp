// SPDX-License-Identifier: GPL-3.0-or-later
//
// The recorder as others use it: installed, found by CMake and pkg-config, as a subfolder, with
// several compilers, from C, with plugins and memory hooks, and left out altogether.
#include <QDir>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest>

#include "core/model/open_recording.h"

using namespace fugato;

class InstallTest : public QObject {
    Q_OBJECT
    QTemporaryDir folder_;
    const QString clients_ = QStringLiteral(FUGATO_SOURCE_DIR "/tests/clients");
    QString path(const QString& name) const { return folder_.filePath(name); }

    static QByteArray run(const QString& program, const QStringList& arguments,
                          const QProcessEnvironment& environment = QProcessEnvironment::systemEnvironment()) {
        QProcess process;
        process.setProcessEnvironment(environment);
        process.setProcessChannelMode(QProcess::MergedChannels);
        process.start(program, arguments);
        if (!process.waitForFinished(240'000) || process.exitStatus() != QProcess::NormalExit ||
            process.exitCode() != 0)
            QTest::qFail(qPrintable(program + " " + arguments.join(' ') + "\n" + process.readAll().right(3000)),
                         __FILE__, __LINE__);
        return process.readAllStandardOutput();
    }
    static QStringList compilers() {
        QStringList found;
        for (const char* name : {"g++", "clang++"})
            if (!QStandardPaths::findExecutable(name).isEmpty()) found << name;
        return found;
    }
    static std::shared_ptr<const Recording> open(const QString& file) {
        auto opened = openRecording(file.toStdString());
        if (!opened) QTest::qFail(opened.failure().sentence.c_str(), __FILE__, __LINE__);
        return opened ? *opened : nullptr;
    }
    void buildClient(const QString& source, const QString& build, const QString& compiler, const QStringList& options) {
        run("cmake", QStringList{"-S", source, "-B", build, "-G", "Ninja", "-DCMAKE_BUILD_TYPE=Release",
                                 "-DCMAKE_CXX_COMPILER=" + compiler,
                                 QString("-DCMAKE_C_COMPILER=") + (compiler == "g++" ? "gcc" : "clang")} +
                         options);
        run("cmake", {"--build", build});
    }
    void checkTurns(const QString& file, const std::string& name) {
        const auto r = open(file);
        QVERIFY(r);
        QVERIFY(!r->damage.any());
        QCOMPARE(r->markerCount(), size_t{10});
        QCOMPARE(r->siteOf(r->lanes[0].rows[0].path(0)).name, name);
    }

private slots:
    void initTestCase() {
        if (*FUGATO_SANITIZE) QSKIP("sanitized libraries need the same flags in every client");
        QVERIFY2(compilers().size() == 2, "g++ and clang++ must be installed");
        run("cmake", {"--install", FUGATO_BINARY_DIR, "--component", "recorder", "--prefix", path("installed")});
    }

    void aProjectFindsTheInstalledPackage_data() {
        QTest::addColumn<QString>("compiler");
        for (const QString& compiler : compilers()) QTest::newRow(qPrintable(compiler)) << compiler;
    }
    void aProjectFindsTheInstalledPackage() {
        QFETCH(QString, compiler);
        const QString build = path("found-" + compiler);
        buildClient(clients_ + "/found", build, compiler, {"-DCMAKE_PREFIX_PATH=" + path("installed")});
        const auto record = [&](const QString& program, const QStringList& more = {}) {
            const QString file = path(program + "-" + compiler + ".fugato");
            run(build + "/" + program, QStringList{file} + more);
            return file;
        };
        checkTurns(record("client_cpp"), "Turn");
        checkTurns(record("client_c"), "Turn in C");
        for (const char* program : {"client_new", "client_malloc"}) {
            const auto r =
                open(record(program, QString(program) == "client_new" ? QStringList{"sizes"} : QStringList()));
            QVERIFY(r);
            int charged = 0, plain = 0, left = 0;
            for (const Allocation& allocation : r->allocations) {
                const bool inTurn = allocation.path && r->nameOf(allocation.path) == "Turn";
                charged += inTurn && allocation.bytes == 1001;
                plain += inTurn && allocation.bytes == 77;
                left += inTurn && !allocation.isReleased();
            }
            QCOMPARE(charged, 10);
            QCOMPARE(plain, QString(program) == "client_malloc" ? 10 : 0);
            QCOMPARE(left, 0);
        }
        const auto plugin = open(record("client_plugin", {build + "/libplugin.so"}));
        QVERIFY(plugin);
        QCOMPARE(plugin->markerCount(), size_t{20});
        for (uint32_t i = 0; i < 20; ++i)
            QCOMPARE(plugin->nameOf(plugin->lanes[0].rows[0].path(i)), std::string("In the plugin"));
        QCOMPARE(plugin->lanes[0].arguments.at(0).size(), size_t{20});
    }

    void aProjectTakesTheRecorderAsASubfolder() {
        const QString build = path("nested");
        buildClient(clients_ + "/nested", build, "g++", {"-DFUGATO_RECORDER=" FUGATO_SOURCE_DIR "/recorder"});
        run(build + "/client_cpp", {path("nested.fugato")});
        checkTurns(path("nested.fugato"), "Turn");
    }

    void theInstalledApplicationRecordsPrograms() {
        run("cmake", {"--install", FUGATO_BINARY_DIR, "--component", "application", "--prefix", path("application")});
        QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
        environment.insert("SDL_VIDEODRIVER", "dummy");
        run(path("application/bin/fugato-cli"),
            {"record", "--to", path("pictures.fugato"), "--", PICTURES_PROGRAM, "renderer", "10"}, environment);
        const auto r = open(path("pictures.fugato"));
        QVERIFY(r && r->series[0].frames.size() == 9);
        environment.insert("QT_QPA_PLATFORM", "offscreen");
        static const QRegularExpression version("^fugato \\d", QRegularExpression::MultilineOption);
        QVERIFY(version.match(run(path("application/bin/fugato"), {"--version"}, environment)).hasMatch());
        QVERIFY(QFile::exists(path("application/share/fugato/skerry-regatta.fugato")));
    }

    void theRecorderIsOptimisedUnlessAskedOtherwise() {
        run("cmake", {"-S", FUGATO_SOURCE_DIR "/recorder", "-B", path("alone")});
        QFile cache(path("alone/CMakeCache.txt"));
        QVERIFY(cache.open(QIODevice::ReadOnly));
        QVERIFY(cache.readAll().contains("CMAKE_BUILD_TYPE:STRING=Release"));
        run("cmake", {"-S", clients_ + "/nested", "-B", path("untyped"),
                      "-DFUGATO_RECORDER=" FUGATO_SOURCE_DIR "/recorder", "-DCMAKE_EXPORT_COMPILE_COMMANDS=ON"});
        QFile commands(path("untyped/compile_commands.json"));
        QVERIFY(commands.open(QIODevice::ReadOnly));
        int optimised = 0;
        for (const QByteArray& line : commands.readAll().split('\n'))
            if (line.contains("\"command\"") && line.contains("recorder.cpp")) optimised += line.contains("-O2");
        QCOMPARE(optimised, 1);
    }

    void pkgConfigTellsHowToBuild() {
        QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
        const QString folder = QFileInfo(run("find", {path("installed"), "-name", "fugato.pc"}).trimmed()).path();
        environment.insert("PKG_CONFIG_PATH", folder);
        const QStringList flags =
            QString(run("pkg-config", {"--cflags", "--libs", "fugato"}, environment)).trimmed().split(' ');
        run("gcc", QStringList{"-std=c11", "-Wall", "-Wextra", "-Werror", "-pedantic", clients_ + "/main.c", "-o",
                               path("pc_c")} +
                       flags);
        run(path("pc_c"), {path("pc_c.fugato")});
        checkTurns(path("pc_c.fugato"), "Turn in C");
        for (const QString& compiler : compilers()) {
            run(compiler, QStringList{"-std=c++17", "-Wall", "-Wextra", "-Werror", "-pedantic", clients_ + "/main.cpp",
                                      "-o", path("pc_cpp")} +
                              flags);
            run(path("pc_cpp"), {path("pc_cpp.fugato")});
            checkTurns(path("pc_cpp.fugato"), "Turn");
        }
    }

    void leftOutNoCodeRemains() {
        // The same program with the recorder left out and without any of its calls must be the same code.
        const QString body = R"(
            int twice(int);
            int work(int n) {
                int sum = 0;
                for (int i = 0; i < n; ++i) { %1 sum += twice(i); }
                %2
                return sum;
            })";
        const auto code = [&](const QString& name, const QString& text, const QStringList& flags) {
            QFile file(path(name + ".cpp"));
            if (!file.open(QIODevice::WriteOnly)) return QByteArray();
            file.write(text.toUtf8());
            file.close();
            run("g++", QStringList{"-std=c++17", "-c", path(name + ".cpp"), "-o", path(name + ".o"), "-I",
                                   path("installed/include")} +
                           flags);
            run("objcopy", {"-O", "binary", "--only-section=.text", path(name + ".o"), path(name + ".bin")});
            QFile binary(path(name + ".bin"));
            if (!binary.open(QIODevice::ReadOnly)) return QByteArray();
            const QByteArray sizes = run("size", {path(name + ".o")}).split('\n').value(1).simplified();
            return binary.readAll() + "|" + sizes.split(' ').mid(1, 2).join(' ');  // data and bss
        };
        const QString header =
            "#include <fugato/fugato.hpp>\n#include <fugato/opengl.hpp>\n#define VK_NO_PROTOTYPES\n"
            "#include <vulkan/vulkan_core.h>\n#include <fugato/vulkan.hpp>\n";
        for (const char* level : {"-O0", "-O2"}) {
            const QByteArray bare = code("bare", body.arg("", ""), {level});
            const QByteArray off = code(
                "off", header + body.arg("FUG_MARK(\"Step\", \"test\", \"words\"); FUG_ARGUMENT(\"i\", twice(i));", ""),
                {level, "-DFUGATO_OFF"});
            QVERIFY(bare.size() > 20);
            QCOMPARE(off, bare);
        }
        const QString more =
            "static const fug::Series loop(\"loop\"); const fug::Frame frame(loop); fug_count(fug_counter(\"n\", \"\", "
            "nullptr), n); "
            "fug_point(FUG_INFO, \"done\"); static fug::Object door(\"door\"); FUG_WAIT(wait, door, FUG_WAIT_LOCK, "
            "\"Wait\"); fug::GlQueue gpu(nullptr); FUG_GL_MARK(gpu, \"Picture\"); gpu.collect(); "
            "const fug::VulkanDevice device(nullptr, nullptr, nullptr, nullptr); fug::VulkanQueue queue(device, 0, "
            "\"q\"); "
            "fug::VulkanCommands times(device, 0); FUG_VULKAN_MARK(times, \"Picture\"); queue.submitted(times);";
        QCOMPARE(code("off", header + body.arg("", more), {"-O2", "-DFUGATO_OFF"}),
                 code("bare", body.arg("", ""), {"-O2"}));
        QVERIFY(code("on", header + body.arg("FUG_MARK(\"Step\");", ""), {"-O2"}) !=
                code("bare", body.arg("", ""), {"-O2"}));
    }

    void aSwitchedOffMarkerIsOneLoadAndOneBranch() {
        QFile file(path("begin.cpp"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write("#include <fugato/fugato.h>\nextern fug_site site; int begin() { return fug_begin(&site); }\n");
        file.close();
        run("g++",
            {"-O2", "-fno-pic", "-c", path("begin.cpp"), "-o", path("begin.o"), "-I", path("installed/include")});
        QStringList steps;
        for (const QByteArray& line : run("objdump", {"-d", "--no-show-raw-insn", path("begin.o")}).split('\n')) {
            const QString text = QString(line).section('\t', 1).simplified();
            if (!text.isEmpty() && !text.startsWith("push") && !text.startsWith("sub"))
                steps << text.section(' ', 0, 0);
        }
        // Up to the branch that leaves: a load, a test, a jump.
        const int jump =
            int(std::find_if(steps.begin(), steps.end(), [](const QString& s) { return s.startsWith('j'); }) -
                steps.begin());
        QVERIFY2(jump < steps.size() && jump <= 2, qPrintable(steps.join(' ')));
        QCOMPARE(steps.mid(0, jump).filter("mov").size(), 1);
    }
};

QTEST_GUILESS_MAIN(InstallTest)
#include "install_test.moc"
