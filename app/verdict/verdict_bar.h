// SPDX-License-Identifier: GPL-3.0-or-later
//
// The verdict line: what was recorded, how bad it is in one sentence, the budget, a frame to go to.
#pragma once

#include <QWidget>

class QComboBox;
class QLabel;
class QLineEdit;

namespace fugato {

class BoundLegend;
class Document;
class Selection;

class VerdictBar : public QWidget {
    Q_OBJECT
public:
    VerdictBar(Document& document, Selection& selection, QWidget* parent = nullptr);
    QLineEdit& budget() { return *budget_; }
    QLineEdit& find() { return *find_; }
    QString sentence() const;

signals:
    void wanted(const QString& words);   // to be searched for
    void done();                         // with a field: the keyboard may go back
    void said(const QString& sentence);  // something the person typed could not be used

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void layOut();
    void takeRecording();
    void takeExplanation();
    void fillSeries();
    void showBudget();
    void applyBudget();
    void applyFind();

    Document& document_;
    Selection& selection_;
    QLabel *name_, *facts_, *sentence_, *bound_;
    BoundLegend* legend_;
    QComboBox* series_;
    QLineEdit *budget_, *find_;
};

}  // namespace fugato
