#include "titlebar.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QMenuBar>
#include <QPainter>
#include <QProgressBar>
#include <QPushButton>

namespace pinion {
namespace {

/// Words that give way to what stands beside them: with dots where they do not fit, and not at all in a gap.
class GivingWay : public QLabel {
protected:
    void paintEvent(QPaintEvent*) override {
        constexpr int kLeast = 90;
        const bool fits = fontMetrics().horizontalAdvance(text()) <= width();
        setToolTip(fits ? QString() : text());
        if (!fits && width() < kLeast) return;
        QPainter painter(this);
        painter.setPen(palette().color(QPalette::WindowText));
        painter.drawText(rect(), Qt::AlignLeft | Qt::AlignVCenter,
                         fontMetrics().elidedText(text(), Qt::ElideRight, width()));
    }
};

}  // namespace

TitleBar::TitleBar(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("titleBar");
    setAttribute(Qt::WA_StyledBackground);
    setFixedHeight(38);
    setStyleSheet("#titleBar { background: #1b1b1b; border-bottom: 1px solid #333; }");
    row_ = new QHBoxLayout(this);
    row_->setContentsMargins(12, 0, 12, 0);
    row_->setSpacing(4);
    shotName_ = new QLabel;
    shotName_->setObjectName("shotName");
    shotName_->setProperty("title", true);
    facts_ = new GivingWay;
    facts_->setProperty("dim", true);
    // The facts give way first, so that a narrow screen does not cut the window off.
    facts_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    row_->addSpacing(10);
    row_->addWidget(shotName_);
    row_->addSpacing(8);
    row_->addWidget(facts_, 1);
    makeJobArea();
    row_->addWidget(jobArea_);
    deliver_ = new QPushButton("Deliver");
    deliver_->setObjectName("deliver");
    deliver_->setProperty("accent", true);
    deliver_->setFocusPolicy(Qt::TabFocus);
    connect(deliver_, &QPushButton::clicked, this, &TitleBar::deliverAsked);
    row_->addSpacing(8);
    row_->addWidget(deliver_);
    connect(&session.document, &Document::changed, this, [this] { refresh(); });
    connect(&session.document, &Document::fileChanged, this, [this] { refresh(); });
    connect(&session.player, &Player::plateChanged, this, [this] { refresh(); });
    connect(&session.jobs, &JobRunner::busyChanged, this, [this] { refresh(); });
    connect(&session.jobs, &JobRunner::progressed, this, [this] { refreshJob(); });
    refresh();
}

void TitleBar::setMenus(QMenuBar* menus) {
    menus->setSizePolicy(QSizePolicy::Minimum, QSizePolicy::Preferred);
    menus->setFixedHeight(30);
    row_->insertWidget(0, menus, 0, Qt::AlignVCenter);
}

void TitleBar::makeJobArea() {
    jobArea_ = new QWidget;
    jobArea_->setObjectName("jobArea");
    auto* row = new QHBoxLayout(jobArea_);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(8);
    jobName_ = new QLabel;
    jobBar_ = new QProgressBar;
    jobBar_->setRange(0, 1000);
    jobBar_->setTextVisible(false);
    jobBar_->setFixedSize(110, 4);
    jobBar_->setAccessibleName("Progress");
    jobBar_->setStyleSheet(
        "QProgressBar { background: #383838; border: none; border-radius: 2px; } QProgressBar::chunk { background: "
        "#d9a441; border-radius: 2px; }");
    jobDetail_ = new QLabel;
    jobDetail_->setProperty("dim", true);
    auto* stop = new QPushButton("Stop");
    stop->setObjectName("stopJob");
    stop->setFocusPolicy(Qt::TabFocus);
    connect(stop, &QPushButton::clicked, this, [this] { session_.jobs.stop(); });
    for (QWidget* part : std::initializer_list<QWidget*>{jobName_, jobBar_, jobDetail_, stop}) row->addWidget(part);
}

void TitleBar::refresh() {
    const Shot& shot = session_.shot();
    const bool open = shot.plate.isOpen();
    shotName_->setText(open ? text(shot.name) : QString("Pinion"));
    QString facts;
    if (open) {
        facts = QString("%1×%2 · %3 fps · %4–%5")
                    .arg(shot.plate.width)
                    .arg(shot.plate.height)
                    .arg(shot.plate.fps.perSecond(), 0, 'g', 5)
                    .arg(shot.plate.range.first)
                    .arg(shot.plate.range.last);
        facts += session_.document.isModified() ? " · not saved" : session_.document.file().empty() ? "" : " · saved";
    }
    facts_->setText(facts);
    deliver_->setEnabled(!session_.isBusy() && !shot.tracks.isEmpty());
    refreshJob();
}

void TitleBar::refreshJob() {
    jobArea_->setVisible(session_.isBusy());
    if (!session_.isBusy()) return;
    const JobState& job = session_.jobs.state();
    jobName_->setText(job.name);
    jobBar_->setValue(int(job.fraction * 1000));
    QString detail = QString("%1 %").arg(int(job.fraction * 100));
    if (job.framesPerSecond > 0.1) detail += QString(" · %1 fps").arg(job.framesPerSecond, 0, 'f', 0);
    if (job.secondsLeft >= 0) detail += QString(" · %1 s left").arg(job.secondsLeft, 0, 'f', 0);
    jobDetail_->setText(detail);
}

}  // namespace pinion
