#pragma once

#include "actions.h"
#include "canvas.h"
#include "curves.h"
#include "docket.h"
#include "proof.h"
#include "threadsheet.h"
#include "workspace.h"
#include "worldview.h"

#include <QMainWindow>

class QLabel;
class QProgressBar;
class QPushButton;
class QSplitter;
class QStackedWidget;
class QToolButton;
class QMenu;
class QHBoxLayout;
class QComboBox;
class QLineEdit;

namespace pinion {

/// The window: docket, canvas or 3D view, proof, thread sheet, transport, and the title bar with the running job.
class MainWindow : public QMainWindow {
    Q_OBJECT
public:
    explicit MainWindow(QWidget* parent = nullptr);

    Workspace& workspace() { return workspace_; }
    Canvas& canvas() { return *canvas_; }
    ThreadSheet& threadSheet() { return *sheet_; }
    Docket& docket() { return *docket_; }
    ProofStrip& proof() { return *proof_; }
    CurvesPanel& curves() { return *curves_; }
    /// Thread sheet or curves below the picture.
    void showCurves(bool shown);
    WorldView* worldView() { return world_; }
    Commands& commands() { return *commands_; }

    enum class View { plate, wipe, beside, steady, world };
    void setView(View view);
    View view() const { return view_; }
    /// The last note or error that was shown.
    QString note() const;
    /// Offers what an earlier run lost.
    /// Shows the window where and as large as it was last time, and never larger than the screen leaves room for.
    void showInPlace();
    /// Shrinks and moves the window so that it lies on its screen, title bar and borders included.
    void fitToScreen();
    void offerRecovery();

protected:
    void closeEvent(QCloseEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void makeCommands();
    void makeTrackCommands();
    void hangOn(MotionKind kind);
    QString whyNotOne() const;  ///< why a command for one track cannot be done now
    const Track* oneTrack() const;
    void importDialog();
    void makeMenus();
    QWidget* makeTitleBar();
    QWidget* makeToolBar();
    QWidget* makeTransport();
    QWidget* makeSheetHeader();
    void refresh();
    void refreshTransport();
    void showNote(const QString& text, bool error);
    void placeNote();
    void openDialog();
    void saveAs();
    void save();
    void leaveOr(const std::function<void()>& go);
    void showAbout();
    void setFullScreenPicture(bool full);
    QString whyNoPlate() const;

    Workspace workspace_;
    Commands* commands_;
    Canvas* canvas_;
    ThreadSheet* sheet_;
    CurvesPanel* curves_;
    QStackedWidget* sheets_;
    QToolButton* sheetButton_;
    QToolButton* curvesButton_;
    QComboBox* orderBox_;
    QComboBox* curveBox_;
    QLineEdit* filterEdit_;
    Docket* docket_;
    ProofStrip* proof_;
    WorldView* world_ = nullptr;
    QWidget* worldPage_;
    QStackedWidget* views_;
    QSplitter* middle_;
    QSplitter* columns_;
    QWidget* titleBar_;
    QWidget* toolBar_;
    QWidget* transport_;
    QWidget* lower_;
    QLabel* shotName_;
    QLabel* plateFacts_;
    QWidget* jobArea_;
    QLabel* jobName_;
    QProgressBar* jobBar_;
    QLabel* jobDetail_;
    QPushButton* stop_;
    QPushButton* deliver_;
    QLabel* note_;
    QWidget* noteBar_;
    QLabel* frameLabel_;
    QLabel* rangeLabel_;
    QLabel* pointedLabel_;
    QToolButton* playButton_;
    QToolButton* selectTool_;
    QToolButton* placeTool_;
    QToolButton* areaTool_;
    std::vector<QWidget*> plateTools_;
    QToolButton* plateView_;
    QToolButton* compareView_;
    QToolButton* steadyView_;
    QToolButton* worldViewButton_;
    QToolButton* throughButton_;
    QToolButton* gridButton_;
    QMenu* recentMenu_ = nullptr;
    QWidget* recoveryBar_;
    QHBoxLayout* recoveryLayout_;
    View view_ = View::plate;
    QTimer noteTimer_;
};

}  // namespace pinion
