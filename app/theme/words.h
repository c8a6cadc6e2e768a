// SPDX-License-Identifier: GPL-3.0-or-later
//
// Texts on their way to the screen. What programs and files tell is shown as it is, never as marking-up.
#pragma once

#include <QLabel>
#include <QString>
#include <string>

#include "core/explain/words/quantities.h"
#include "format/shown_text.h"

namespace fugato {

/// Puts what is written from right to left between marks that keep it from moving the digits and stops beside it
/// (Unicode's FIRST STRONG ISOLATE and POP DIRECTIONAL ISOLATE).
QString withIsolatedNames(const QString& text);

/// Words of the core, as Qt holds them and shows them.
inline QString toQString(std::string_view text) {
    return withIsolatedNames(QString::fromUtf8(text.data(), static_cast<qsizetype>(text.size())));
}

/// A path or another text from outside a recording, with control characters written out.
inline QString capitalised(const QString& text) { return text.left(1).toUpper() + text.mid(1); }
inline QString shown(const QString& text) { return toQString(shownText(text.toStdString())); }

/// "340 kB", "1.6 MB"
inline QString sizeText(qint64 bytes) { return toQString(bytesText(static_cast<uint64_t>(bytes))); }

/// A text for a tooltip, which would take anything that looks like marking-up for such.
inline QString plainTip(const QString& text) {
    return Qt::mightBeRichText(text) ? "<p style=\"white-space: pre-wrap\">" + text.toHtmlEscaped() + "</p>" : text;
}

/// One that we mark up ourselves: what others told stands in it escaped (toHtmlEscaped).
inline QString richTip(const QString& markedUp) { return "<qt>" + markedUp + "</qt>"; }

/// A label that never takes its text for marking-up.
inline QLabel* plainLabel(const QString& text = {}, QWidget* parent = nullptr) {
    auto* label = new QLabel(parent);
    label->setTextFormat(Qt::PlainText);
    label->setText(text);
    return label;
}
inline QLabel* plainLabel(QWidget* parent) { return plainLabel({}, parent); }

}  // namespace fugato
