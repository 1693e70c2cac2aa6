#pragma once

#include "workspace.h"

#include <QWidget>

#include <vector>

class QVBoxLayout;
class QLabel;

namespace pinion {

/// One stage of the shot: its state, its one number, and, when open, its settings.
class Card : public QWidget {
    Q_OBJECT
public:
    Card(Stage stage, const QString& title, QWidget* parent = nullptr);
    Stage stage() const { return stage_; }
    void setReport(const StageReport& report);
    void setBody(QWidget* body);
    void setOpen(bool open);
    bool isOpen() const { return open_; }

signals:
    void pressed(Stage stage);

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    static constexpr int kHeader = 38;
    Stage stage_;
    QString title_;
    StageReport report_;
    QWidget* body_ = nullptr;
    QLabel* note_;
    QVBoxLayout* layout_;
    bool open_ = false;
};

/// The left column: the shot's stages in the order of work.
class Docket : public QWidget {
    Q_OBJECT
public:
    explicit Docket(Workspace& workspace, QWidget* parent = nullptr);
    Card* card(Stage stage) const;
    void open(Stage stage);
    Stage openStage() const { return openStage_; }

signals:
    void opened(Stage stage);

private:
    void refresh();
    Workspace& workspace_;
    std::vector<Card*> cards_;
    Stage openStage_ = Stage::plate;
};

// The settings that the cards hold, one widget each.
QWidget* makePlatePanel(Workspace& workspace);
QWidget* makeTracksPanel(Workspace& workspace);
QWidget* makeTrackChoices(Workspace& workspace);  ///< of the selected tracks, inside the Tracks card
QWidget* makeCameraPanel(Workspace& workspace);
QWidget* makeWorldPanel(Workspace& workspace);
QWidget* makeSteadyPanel(Workspace& workspace);
QWidget* makeDeliveryPanel(Workspace& workspace);

}  // namespace pinion
