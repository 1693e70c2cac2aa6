#pragma once

#include <QLabel>
#include <QTimer>
#include <QWidget>

namespace pinion {

/// The one place for notes: over the foot of `over`, so that nothing moves when one comes or goes. A note goes by
/// itself; an error stays until it is read.
class NoteBar : public QWidget {
    Q_OBJECT
public:
    NoteBar(QWidget* parent, QWidget* over);
    void show(const QString& words, bool error);
    QString words() const { return words_->text(); }
    /// To where it belongs, after the window has changed its size.
    void place();

private:
    QWidget* over_;
    QLabel* words_;
    QTimer timer_;
};

}  // namespace pinion
