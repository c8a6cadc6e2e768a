// SPDX-License-Identifier: GPL-3.0-or-later
#include "words.h"

namespace fugato {

namespace {

bool isRightToLeft(QChar c) { return c.direction() == QChar::DirR || c.direction() == QChar::DirAL; }

/// What may stand between two words of one name.
bool joins(QChar c) { return c.isSpace() || c.isMark() || c == '-' || c == '_' || c == '\''; }

}  // namespace

QString withIsolatedNames(const QString& text) {
    constexpr QChar kIsolate(0x2068), kEnd(0x2069), kFirstRightToLeft(0x0590);
    qsizetype at = 0;
    while (at < text.size() && (text[at] < kFirstRightToLeft || !isRightToLeft(text[at]))) ++at;
    if (at == text.size()) return text;
    QString out = text.left(at);
    while (at < text.size()) {
        if (!isRightToLeft(text[at])) {
            out += text[at++];
            continue;
        }
        qsizetype past = at + 1;  // after the last letter of the name
        for (qsizetype i = past; i < text.size() && (isRightToLeft(text[i]) || joins(text[i])); ++i)
            if (isRightToLeft(text[i]) || text[i].isMark()) past = i + 1;
        out += kIsolate + text.mid(at, past - at) + kEnd;
        at = past;
    }
    return out;
}

}  // namespace fugato
