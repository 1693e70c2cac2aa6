#pragma once

#include "canvas/canvas.h"
#include "docket.h"
#include "proof/proof.h"
#include "scene/worldview.h"
#include "session/session.h"
#include "sheet/sheetpanel.h"
#include "stages/stages.h"
#include "widgets/commands.h"

#include <QMainWindow>
#include <QTimer>

class QSplitter;
class QStackedWidget;
class QToolButton;

namespace pinion {

class NoteBar;
class RecoveryBar;
class TitleBar;
class ToolBar;
class Transport;

/// The window: docket, canvas or 3D view, proof, thread sheet, transport, and the title bar with the running job. It
/// walks over the stages, lets them furnish its parts, and arranges them.
class MainWindow : public QMainWindow {
    Q_OBJECT
public:
    explicit MainWindow(QWidget* parent = nullptr);
    ~MainWindow() override;

    Session& session() { return session_; }
    Canvas& canvas() { return *canvas_; }
    ThreadSheet& threadSheet() { return lower_->sheet(); }
    Docket& docket() { return *docket_; }
    ProofStrip& proof() { return *proof_; }
    CurvesPanel& curves() { return lower_->curves(); }
    WorldView* worldView() { return world_; }
    Commands& commands() { return *commands_; }
    /// The stage of a kind.
    template <class Kind>
    Kind& stage() {
        for (const auto& stage : stages_)
            if (auto* found = dynamic_cast<Kind*>(stage.get())) return *found;
        std::abort();  // a stage that the program is not made of
    }

    /// Thread sheet or curves below the picture.
    void showCurves(bool shown) { lower_->showCurves(shown); }
    /// "plate"; "wipe" or "beside" of the last sight; the name of a sight; or "3d".
    void show(const QString& view);
    using QMainWindow::show;
    const QString& view() const { return view_; }
    /// The last note or error that was shown.
    QString note() const;
    /// Shows the window where and as large as it was last time, and never larger than the screen leaves room for.
    void showInPlace();
    /// Shrinks and moves the window so that it lies on its screen, title bar and borders included.
    void fitToScreen();
    /// Offers what an earlier run lost.
    void offerRecovery();

protected:
    void closeEvent(QCloseEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void arrange();
    void connectParts();
    void furnish();
    void addShotCommands();
    void addEditCommands();
    void addViewCommands();
    void addPlayCommands();
    void addLastCommands();
    void addViews();
    void makeMenus();
    QMenu* makeRecentMenu();
    void refreshCommands();
    bool handleKey(QObject* watched, QKeyEvent* key);
    void save();
    void saveAs();
    /// Asks about unsaved changes first; `go` only when nothing would be lost.
    void leaveOr(const std::function<void()>& go);
    void openAnother(const QString& path);
    /// What would be written outside the delivery folder: only when told so.
    void askOutside(const QStringList& places, const std::function<void()>& write);
    void setFullScreenPicture(bool full);

    Session session_;
    std::vector<std::unique_ptr<Stage>> stages_;
    Commands* commands_;
    TitleBar* titleBar_;
    ToolBar* toolBar_;
    Canvas* canvas_;
    WorldView* world_ = nullptr;
    QWidget* worldPage_;
    QStackedWidget* views_;
    SheetPanel* lower_;
    Docket* docket_;
    ProofStrip* proof_;
    Transport* transport_;
    NoteBar* noteBar_;
    RecoveryBar* recoveryBar_;
    QTimer lookAgain_;
    int looks_ = 0;
    QWidget* sceneBar_ = nullptr;
    QString view_ = "plate";
    QString compared_;  ///< the sight that is compared with the plate: the one looked at last
};

}  // namespace pinion
