// SPDX-License-Identifier: GPL-3.0-or-later
//
// The colours and type of every panel, light and dark. Pencil for what is usual, plum for excess,
// blue for the critical path. Interface thread only.
#pragma once

#include <QColor>
#include <QFont>
#include <QRectF>
#include <QString>

class QPainter;

namespace fugato {

struct Theme {
    bool dark = false;
    QColor paper, panel, line, text, muted;      // ground, raised ground, rules, words, lesser words
    QColor marker, markerEdge, markerText;       // ordinary work
    QColor waiting, waitingDots;                 // blocked
    QColor plum, plumMiddle, plumLight, onPlum;  // excess, strongest first; words on plum
    QColor headroom, near, stage;                // the strip below its deadline
    QColor path;                                 // the line through the lanes
    QColor whatIf, warning;                      // grounds of the what-if box and of notes
    QColor handle;                               // edges of fields, and what can be dragged

    /// Plum of a strength from 0 (pencil) to 1.
    QColor highlight(double strength) const;
    /// Colours for what the person wants to follow by eye, from 1 to kTints: quiet, and unlike plum and the line.
    static constexpr int kTints = 6;
    QColor tint(int number) const;
    /// Letters of causes that are not selected.
    QColor letter() const { return highlight(0.85); }
    /// A box of time in which something waited and should not have: hatched, with an edge.
    void paintHatched(QPainter& painter, const QRectF& box, const QColor& color) const;
    QString styleSheet() const;
};

const Theme& lightTheme();
const Theme& darkTheme();
/// The same with black and white, edges on everything and no pale words.
const Theme& lightContrastTheme();
const Theme& darkContrastTheme();
/// The theme in use; changed by applyTheme().
const Theme& theme();
void applyTheme(bool dark, bool highContrast);

/// How well one colour is told from another, from 1 to 21: the contrast ratio of WCAG 2.2.
double contrastOf(const QColor& a, const QColor& b);
/// Black or white, whichever is read better on a colour.
QColor wordsOn(const QColor& ground);

QFont textFont();   // 12 px
QFont smallFont();  // 11 px, the smallest anywhere
QFont smallBoldFont();
QFont boldFont();
QFont titleFont();
QFont codeFont();  // letters of one width

}  // namespace fugato
