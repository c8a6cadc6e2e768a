// SPDX-License-Identifier: GPL-3.0-or-later
//
// The house keeps its shape: the folder map tells the truth, dependencies point down, licences stand
// where they should.
#include <QDir>
#include <QDirIterator>
#include <QFile>
#include <QRegularExpression>
#include <QtTest>

namespace {

const QString kRoot = FUGATO_SOURCE_DIR;

QString contents(const QString& path) {
    QFile file(path);
    return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
}

QStringList sourcesIn(const QString& folder) {
    QStringList out;
    QDirIterator at(kRoot + "/" + folder, {"*.cpp", "*.h", "*.hpp", "*.c"}, QDir::Files, QDirIterator::Subdirectories);
    while (at.hasNext()) out << at.next();
    return out;
}

QStringList foldersWithSources() {
    QStringList folders;
    for (const QString& name : QDir(kRoot).entryList(QDir::Dirs | QDir::NoDotAndDotDot, QDir::Name))
        if (name != "build" && !sourcesIn(name).isEmpty()) folders << name;
    return folders;
}

}  // namespace

class HouseTest : public QObject {
    Q_OBJECT

private slots:
    void theReadmesFolderMapIsTheTree() {
        QStringList mapped;
        const QString readme = contents(kRoot + "/README.md");
        static const QRegularExpression row("^\\| `([a-z]+)/` \\|", QRegularExpression::MultilineOption);
        for (auto at = row.globalMatch(readme); at.hasNext();) mapped << at.next().captured(1);
        QStringList folders;
        for (const QString& name : QDir(kRoot).entryList(QDir::Dirs | QDir::NoDotAndDotDot))
            if (name != "build") folders << name;
        mapped.sort();
        folders.sort();
        QCOMPARE(mapped, folders);
    }

    void noFileIsTooLongToBeReadAtOnce() {
        constexpr qsizetype kMostLines = 800;
        for (const QString& folder : foldersWithSources())
            for (const QString& path : sourcesIn(folder))
                QVERIFY2(contents(path).count('\n') <= kMostLines, qPrintable(path));
    }

    void noFunctionIsTooLongToBeReadAtOnce() {
        constexpr qsizetype kMostLines = 80;
        // As they are laid out here, a function ends with a brace alone that stands as far in as its first line.
        for (const QString& folder : foldersWithSources())
            for (const QString& path : sourcesIn(folder))
                for (const QString& in : {QString(), QString("    ")}) {
                    const QStringList lines = contents(path).split('\n');
                    qsizetype first = 0;
                    for (qsizetype i = 0; i < lines.size(); ++i) {
                        const QString after = lines[i].mid(in.size(), 1);
                        if (!lines[i].startsWith(in) || after.isEmpty() || after == " ") continue;
                        if (lines[i] != in + "}")
                            first = i;
                        else
                            QVERIFY2(i - first < kMostLines, qPrintable(QString("%1:%2").arg(path).arg(first + 1)));
                    }
                }
    }

    void includesPointDownTheHouse() {
        static const QRegularExpression row("^\\| `([a-z]+)` \\| ([^|]*)\\|", QRegularExpression::MultilineOption),
            include("#include \"([a-z]+)/"), qt("#include <Q[A-Z]");
        QMap<QString, QString> standsOn;
        for (auto at = row.globalMatch(contents(kRoot + "/docs/architecture.md")); at.hasNext();) {
            const auto match = at.next();
            standsOn[match.captured(1)] = match.captured(2);
        }
        const QStringList folders = foldersWithSources();
        QCOMPARE(QStringList(standsOn.keys()), folders);
        for (const QString& folder : folders)
            for (const QString& source : sourcesIn(folder)) {
                const QString text = contents(source);
                for (auto at = include.globalMatch(text); at.hasNext();) {
                    const QString other = at.next().captured(1);
                    QVERIFY2(
                        !folders.contains(other) || other == folder || standsOn[folder].contains("`" + other + "`"),
                        qPrintable(source + " includes " + other));
                }
                QVERIFY2(standsOn[folder].contains("Qt") || !text.contains(qt), qPrintable(source + " includes Qt"));
            }
    }

    void panelsDoNotKnowEachOther() {
        const QStringList panels{"causes", "drawer", "lanes", "strip", "verdict", "why"};
        for (const QString& panel : panels)
            for (const QString& source : sourcesIn("app/" + panel))
                for (const QString& other : panels)
                    QVERIFY2(other == panel || !contents(source).contains("#include \"app/" + other + "/"),
                             qPrintable(source + " includes " + other));
    }

    void whatIsShownIsNeverTakenForMarkingUp() {
        static const QRegularExpression tip("(setToolTip|QToolTip::showText)\\(([^;]*);");
        for (const QString& source : sourcesIn("app")) {
            const QString text = contents(source);
            if (!source.endsWith("words.h")) QVERIFY2(!text.contains("new QLabel"), qPrintable(source));
            for (auto at = tip.globalMatch(text); at.hasNext();) {
                const QString said = at.next().captured(2).simplified();
                QVERIFY2(said.contains("plainTip(") || said.contains("richTip(") || said.startsWith("tr("),
                         qPrintable(source + ": " + said));
            }
        }
    }

    void everySourceNamesItsLicence() {
        for (const QString& folder : foldersWithSources())
            for (const QString& source : sourcesIn(folder)) {
                const QString licence =
                    folder == "recorder" ? "SPDX-License-Identifier: MIT" : "SPDX-License-Identifier: GPL-3.0-or-later";
                QVERIFY2(contents(source).left(200).contains(licence), qPrintable(source));
            }
        QVERIFY(contents(kRoot + "/LICENSE").contains("GNU GENERAL PUBLIC LICENSE"));
        QVERIFY(contents(kRoot + "/recorder/LICENSE").contains("MIT License"));
    }

    void everyScreenshotIsLinkedFromTheReadme() {
        const QStringList pictures = QDir(kRoot + "/docs/screenshots").entryList({"*.png"}, QDir::Files);
        QVERIFY(!pictures.isEmpty() && pictures.size() < 20);
        for (const QString& picture : pictures)
            QVERIFY2(contents(kRoot + "/README.md").contains("docs/screenshots/" + picture), qPrintable(picture));
    }

    void documentsLinkOnlyToWhatIsThere() {
        QDirIterator at(kRoot, {"*.md"}, QDir::Files, QDirIterator::Subdirectories);
        static const QRegularExpression link("\\]\\(([^)#:]+)(?:#[^)]*)?\\)");
        while (at.hasNext()) {
            const QString path = at.next();
            if (path.contains("/build/")) continue;
            for (auto match = link.globalMatch(contents(path)); match.hasNext();) {
                const QString target = match.next().captured(1);
                QVERIFY2(QFileInfo::exists(QFileInfo(path).absolutePath() + "/" + target),
                         qPrintable(path + " links to " + target));
            }
        }
    }

    /// Names in `code` letters that have a capital or an underscore inside, so that they are no plain words.
    void documentsNameOnlyWhatIsThere() {
        QSet<QString> there;
        static const QRegularExpression word("\\w+");
        for (QDirIterator at(kRoot, QDir::Files, QDirIterator::Subdirectories); at.hasNext();) {
            const QString path = at.next(), inside = path.mid(kRoot.size());
            if (inside.startsWith("/build/") || inside.startsWith("/.git/") || inside.startsWith("/docs/")) continue;
            for (auto of = word.globalMatch(inside); of.hasNext();) there.insert(of.next().captured());
            static const QRegularExpression source("\\.(cpp|hpp|h|c|txt|sh|json|jsonl|in)$");
            if (!inside.contains(source)) continue;
            for (auto of = word.globalMatch(contents(path)); of.hasNext();) there.insert(of.next().captured());
        }
        static const QRegularExpression code("`([^`\n]+)`"), name("[A-Za-z]\\w*(?:[a-z][A-Z]|_)\\w+"),
            block("^```.*?^```", QRegularExpression::MultilineOption | QRegularExpression::DotMatchesEverythingOption);
        int found = 0;
        for (QDirIterator at(kRoot, {"*.md"}, QDir::Files, QDirIterator::Subdirectories); at.hasNext();) {
            const QString path = at.next();
            if (path.startsWith(kRoot + "/build/")) continue;
            const QString text = contents(path).remove(block);
            for (auto of = code.globalMatch(text); of.hasNext();) {
                const QString letters = of.next().captured(1);
                for (auto one = name.globalMatch(letters); one.hasNext(); ++found) {
                    const QString named = one.next().captured();
                    QVERIFY2(there.contains(named), qPrintable(path + " names " + named + ", which is not there"));
                }
            }
        }
        QVERIFY2(found >= 400, qPrintable(QString::number(found)));
    }

    void promisesNameTestsWhereTheyAre() {
        static const QRegularExpression told("\\b(\\w+_test)((?: |,|`\\w+`)*)"), name("`(\\w+)`");
        int found = 0;
        for (auto at = told.globalMatch(contents(kRoot + "/docs/promises.md")); at.hasNext();) {
            const auto match = at.next();
            const QString test = contents(kRoot + "/tests/" + match.captured(1) + ".cpp");
            for (auto one = name.globalMatch(match.captured(2)); one.hasNext(); ++found) {
                const QString function = one.next().captured(1);
                QVERIFY2(test.contains("void " + function + "()"), qPrintable(match.captured(1) + " " + function));
            }
        }
        QVERIFY2(found >= 20, qPrintable(QString::number(found)));
    }

    void theRecordersReferencesNameEveryCall() {
        const QString c = contents(kRoot + "/recorder/include/fugato/fugato.h"),
                      cReference = contents(kRoot + "/docs/recorder-c.md");
        static const QRegularExpression call("^FUG_CALL\\([^,]+, (fug_\\w+)", QRegularExpression::MultilineOption);
        int found = 0;
        for (auto at = call.globalMatch(c); at.hasNext(); ++found) {
            const QString name = at.next().captured(1);
            QVERIFY2(cReference.contains("`" + name + "(") || cReference.contains("`" + name + "`"), qPrintable(name));
        }
        QVERIFY(found >= 40);
        static const QRegularExpression member("([a-z_]+)\\)?(\\(void\\))?;"),
            comment("/\\*.*?\\*/", QRegularExpression::DotMatchesEverythingOption);
        const auto from = c.indexOf("typedef struct fug_options {");
        const QString options = c.mid(from, c.indexOf("} fug_options;") - from).remove(comment);
        for (auto at = member.globalMatch(options); at.hasNext();) {
            const QString name = at.next().captured(1);
            QVERIFY2(cReference.contains("`" + name + "`"), qPrintable(name));
        }
        const QString cpp = contents(kRoot + "/recorder/include/fugato/fugato.hpp"),
                      cppReference = contents(kRoot + "/docs/recorder-cpp.md");
        static const QRegularExpression type("^class (\\w+) \\{", QRegularExpression::MultilineOption);
        for (auto at = type.globalMatch(cpp); at.hasNext();) {
            const QString name = at.next().captured(1);
            QVERIFY2(cppReference.contains("`" + name), qPrintable(name));
        }
    }
};

QTEST_GUILESS_MAIN(HouseTest)
#include "house_test.moc"
