#include "mainwindow.h"

#include "recoverybar.h"
#include "scene/scenebar.h"
#include "session/logging.h"
#include "titlebar.h"
#include "transport.h"
#include "widgets/filedialogs.h"
#include "widgets/notebar.h"
#include "widgets/theme.h"
#include "widgets/toolbar.h"

#include <QApplication>
#include <QCloseEvent>
#include <QDragEnterEvent>
#include <QLabel>
#include <QMenu>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QPushButton>
#include <QScreen>
#include <QSettings>
#include <QSplitter>
#include <QStackedWidget>
#include <QTimer>
#include <QToolButton>
#include <QVBoxLayout>

#include <algorithm>

namespace pinion {
namespace {

// At 1280x800 they leave the canvas more than half of the window.
constexpr int kDocketWidth = 246, kProofWidth = 150, kSheetHeight = 106;
constexpr int kLookAgain_ms = 4000, kLooks = 15;  // for what a window that just died has left

QVBoxLayout* stacked(QWidget* widget) {
    auto* layout = new QVBoxLayout(widget);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    return layout;
}

}  // namespace

MainWindow::MainWindow(QWidget* parent) : QMainWindow(parent), stages_(makeStages(session_)) {
    setObjectName("mainWindow");
    setWindowTitle("Pinion");
    setAcceptDrops(true);
    resize(1280, 800);
    logSession(session_);
    commands_ = new Commands(this);
    canvas_ = new Canvas(session_);
    lower_ = new SheetPanel(session_);
    docket_ = new Docket(session_, stages_);
    proof_ = new ProofStrip(session_);
    toolBar_ = new ToolBar;
    titleBar_ = new TitleBar(session_);
    if (hasOpenGL()) {
        worldPage_ = world_ = new WorldView(session_);
    } else {
        auto* label = new QLabel(
            "This machine has no OpenGL 3.3, so there is no 3D view.\nEverything else works; the ground grid is drawn "
            "over the plate.");
        label->setAlignment(Qt::AlignCenter);
        label->setProperty("dim", true);
        worldPage_ = label;
    }
    furnish();
    transport_ = new Transport(session_, *commands_, lower_->head());
    arrange();
    makeMenus();
    connectParts();
    qApp->installEventFilter(this);
    // Nor does the wheel give a field of a card the focus, by which the next turn would change its number.
    for (QWidget* field : docket_->findChildren<QWidget*>())
        if (field->inherits("QAbstractSpinBox") || field->inherits("QComboBox")) field->setFocusPolicy(Qt::StrongFocus);
    toolBar_->openStage(docket_->openStage());
    show("plate");
    refreshCommands();
    canvas_->setFocus();
}

MainWindow::~MainWindow() {
    // Widgets refer to the stages and the session, which go with this.
    delete centralWidget();
}

void MainWindow::arrange() {
    views_ = new QStackedWidget;
    views_->addWidget(canvas_);
    views_->addWidget(worldPage_);
    auto* upper = new QWidget;
    auto* upperLayout = stacked(upper);
    upperLayout->addWidget(toolBar_);
    upperLayout->addWidget(views_, 1);
    auto* middle = new QSplitter(Qt::Vertical);
    middle->setHandleWidth(1);
    middle->addWidget(upper);
    middle->addWidget(lower_);
    middle->setStretchFactor(0, 1);
    middle->setSizes({620, kSheetHeight});
    middle->setChildrenCollapsible(false);
    auto* columns = new QSplitter(Qt::Horizontal);
    columns->setHandleWidth(1);
    columns->addWidget(docket_);
    columns->addWidget(middle);
    columns->addWidget(proof_);
    columns->setStretchFactor(1, 1);
    columns->setSizes({kDocketWidth, 882, kProofWidth});
    columns->setCollapsible(1, false);
    auto* whole = new QWidget;
    auto* wholeLayout = stacked(whole);
    recoveryBar_ = new RecoveryBar;
    wholeLayout->addWidget(recoveryBar_);
    wholeLayout->addWidget(columns, 1);
    wholeLayout->addWidget(transport_);
    setCentralWidget(whole);
    noteBar_ = new NoteBar(whole, views_);
}

void MainWindow::connectParts() {
    for (const auto signal : {&Document::changed, &Document::fileChanged})
        connect(&session_.document, signal, this, &MainWindow::refreshCommands);
    connect(&session_.player, &Player::plateChanged, this, &MainWindow::refreshCommands);
    connect(&session_.jobs, &JobRunner::busyChanged, this, &MainWindow::refreshCommands);
    connect(&session_.selection, &Selection::changed, this, [this] { commands_->refresh(); });
    connect(&session_.notes, &Notes::said, noteBar_, &NoteBar::show);
    connect(commands_, &Commands::refused, this, [this](const QString& why) { session_.say(why); });
    connect(docket_, &Docket::opened, this, [this](const QString& stage) {
        toolBar_->openStage(stage);
        if (!focusWidget()) canvas_->setFocus();
        // A tool goes with the card it belongs to; one without a button was taken by a command and stays.
        if (!toolBar_->offers(canvas_->toolInHand()) && toolBar_->knows(canvas_->toolInHand()))
            canvas_->takeTool("select");
    });
    connect(canvas_, &Canvas::openAsked, this, &MainWindow::openAnother);
    connect(canvas_, &Canvas::pointed, transport_, &Transport::setPointed);
    connect(canvas_, &Canvas::toolChanged, toolBar_, &ToolBar::setTool);
    connect(titleBar_, &TitleBar::deliverAsked, this, [this] { commands_->action("Deliver all")->trigger(); });
    connect(&session_, &Session::outsideAsked, this, &MainWindow::askOutside);
    // A window that died a moment ago may hold its lock yet.
    lookAgain_.setInterval(kLookAgain_ms);
    connect(&lookAgain_, &QTimer::timeout, this, [this] {
        if (!recoveryBar_->isVisible()) offerRecovery();
        if (++looks_ >= kLooks) lookAgain_.stop();
    });
    lookAgain_.start();
    connect(recoveryBar_, &RecoveryBar::recoverAsked, this, [this](const LostShot& lost) {
        // What is open may not be saved either.
        leaveOr([this, lost] {
            session_.recover(lost);
            recoveryBar_->hide();
        });
    });
    connect(recoveryBar_, &RecoveryBar::discardAsked, this, [this](const LostShot& lost) {
        session_.document.discard(lost);
        QTimer::singleShot(0, this, [this] { offerRecovery(); });
    });
}

/// The stages add their tools, overlays, sights and commands between those of the window itself.
void MainWindow::furnish() {
    addShotCommands();
    addEditCommands();
    addViewCommands();
    addPlayCommands();
    toolBar_->addView("plate", "Plate", {}, [this] { show("plate"); });
    const Desk desk{*commands_,
                    *toolBar_,
                    *canvas_,
                    lower_->sheet(),
                    lower_->curves(),
                    *proof_,
                    world_,
                    [this](const QString& stage) { docket_->open(stage); },
                    [this](const QString& view) { show(view); },
                    [this] { return view_; },
                    [this](Errand errand) {
                        for (const auto& stage : stages_)
                            if (stage->take(errand)) return;
                    }};
    for (const auto& stage : stages_) {
        toolBar_->setStage(stage->id(), stage->toolsStay());
        stage->furnishWith(desk);
        connect(stage.get(), &Stage::reportChanged, docket_, &Docket::refresh);
    }
    addViews();
    addLastCommands();
}

void MainWindow::addViews() {
    toolBar_
        ->addSwitch("Through camera", "Look through the solved camera (C)", {"3d"},
                    [this](bool on) {
                        if (world_) world_->setThroughCamera(on);
                    })
        ->setObjectName("throughSwitch");
    toolBar_->addView("3d", "3D", {}, [this] { show("3d"); });
    if (world_) sceneBar_ = new SceneBar(*world_);
}

void MainWindow::show(const QString& view) {
    view_ = view;
    const bool scene = view == "3d";
    const bool compares = view == "wipe" || view == "beside";
    const QStringList sights = canvas_->sights();
    if (sights.contains(view) || !sights.contains(compared_))
        compared_ = sights.contains(view) ? view : sights.value(sights.size() - 1);
    views_->setCurrentWidget(scene ? worldPage_ : canvas_);
    canvas_->look(compares ? compared_ : view, view == "wipe"     ? Compare::wipe
                                               : view == "beside" ? Compare::beside
                                                                  : Compare::none);
    toolBar_->setView(compares ? QString("compare") : view);
    toolBar_->setInstead(scene && world_ ? sceneBar_ : nullptr);
}

void MainWindow::refreshCommands() {
    const Shot& shot = session_.shot();
    const bool modified = session_.document.isModified();
    const QString name = text(shot.name) + (modified ? " •" : "");
    setWindowTitle(shot.plate.isOpen() ? name + " — Pinion" : QString("Pinion"));
    commands_->refresh();
    const History& history = session_.document.history();
    commands_->action("Undo")->setText(history.canUndo() ? "Undo: " + text(history.undoName()) : QString("Undo"));
    commands_->action("Redo")->setText(history.canRedo() ? "Redo: " + text(history.redoName()) : QString("Redo"));
}

void MainWindow::makeMenus() {
    // The menus, the shot's name and the running job share one bar.
    auto* menus = new QMenuBar;
    QMap<QString, QMenu*> byName;
    for (const char* name : {"Shot", "Edit", "View", "Play", "Lens", "Matte", "Track", "Plane", "Steady", "Insert",
                             "Solve", "World", "Help"})
        byName[name] = menus->addMenu(name);
    for (const Command& command : commands_->all()) {
        QMenu* menu = byName.value(command.menu);
        if (!menu) menu = byName[command.menu] = menus->addMenu(command.menu);
        menu->addAction(command.action);
        if (command.name == "Open plate or shot…") menu->addMenu(makeRecentMenu());
    }
    titleBar_->setMenus(menus);
    setMenuWidget(titleBar_);
}

QMenu* MainWindow::makeRecentMenu() {
    auto* menu = new QMenu("Recent", this);
    connect(menu, &QMenu::aboutToShow, this, [this, menu] {
        menu->clear();
        for (const QString& path : session_.document.recent())
            menu->addAction(path, this, [this, path] { openAnother(path); });
        if (menu->isEmpty()) menu->addAction("nothing yet")->setEnabled(false);
    });
    return menu;
}

QString MainWindow::note() const { return noteBar_->words(); }

void MainWindow::resizeEvent(QResizeEvent* event) {
    QMainWindow::resizeEvent(event);
    if (noteBar_->isVisible()) noteBar_->place();
}

// ---- files

void MainWindow::openAnother(const QString& path) {
    leaveOr([this, path] { session_.open(path.toStdString()); });
}

void MainWindow::save() {
    if (session_.document.file().empty()) saveAs();
    else session_.document.save(session_.document.file());
}

void MainWindow::saveAs() {
    const Shot& shot = session_.shot();
    const std::filesystem::path beside = shot.plate.path.parent_path() / (shot.name + ".pinion");
    const QString path = askToSave(FileKind::shot, "Save shot", text(beside.string()), this);
    if (!path.isEmpty()) session_.document.save(path.toStdString());
}

void MainWindow::leaveOr(const std::function<void()>& go) {
    if (!session_.document.isModified()) {
        go();
        return;
    }
    const Shot& shot = session_.shot();
    QMessageBox box(QMessageBox::NoIcon, "Pinion", QString("Save the changes to %1?").arg(text(shot.name)),
                    QMessageBox::NoButton, this);
    auto* save = box.addButton("Save", QMessageBox::AcceptRole);
    auto* drop = box.addButton("Don't save", QMessageBox::DestructiveRole);
    box.addButton("Cancel", QMessageBox::RejectRole);
    box.exec();
    if (box.clickedButton() == drop) go();
    if (box.clickedButton() != save) return;
    std::filesystem::path path = session_.document.file();
    if (path.empty()) path = askToSave(FileKind::shot, "Save shot", text(shot.name + ".pinion"), this).toStdString();
    if (path.empty()) return;
    session_.document.save(path, [go](bool saved) {
        if (saved) go();
    });
}

void MainWindow::offerRecovery() { recoveryBar_->offer(session_.document.lostShots()); }

void MainWindow::askOutside(const QStringList& places, const std::function<void()>& write) {
    QMessageBox box(QMessageBox::NoIcon, "Pinion",
                    "This shot would write outside its delivery folder:\n" + places.join("\n"), QMessageBox::NoButton,
                    this);
    auto* there = box.addButton("Write there", QMessageBox::AcceptRole);
    box.setDefaultButton(qobject_cast<QPushButton*>(box.addButton("Cancel", QMessageBox::RejectRole)));
    box.exec();
    if (box.clickedButton() == there) write();
}

void MainWindow::closeEvent(QCloseEvent* event) {
    QSettings().setValue("window", saveGeometry());
    if (!session_.document.isModified() || property("closing").toBool()) {
        session_.jobs.stop();
        event->accept();
        return;
    }
    event->ignore();
    leaveOr([this] {
        setProperty("closing", true);
        close();
    });
}

void MainWindow::dragEnterEvent(QDragEnterEvent* event) {
    const QList<QUrl> urls = event->mimeData()->urls();
    if (urls.size() == 1 && urls.front().isLocalFile()) event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event) {
    event->acceptProposedAction();
    openAnother(event->mimeData()->urls().front().toLocalFile());
}

// ---- the screen

void MainWindow::showInPlace() {
    restoreGeometry(QSettings().value("window").toByteArray());
    show();
    // How much the title bar and borders take is known when the window manager has drawn them.
    QTimer::singleShot(0, this, [this] { fitToScreen(); });
    QTimer::singleShot(300, this, [this] { fitToScreen(); });
}

void MainWindow::fitToScreen() {
    if (!screen() || isMaximized() || isFullScreen()) return;
    const QRect room = screen()->availableGeometry();
    const QRect frame = frameGeometry();
    const QSize around = frame.size() - size();
    const QSize fits = (room.size() - around).boundedTo(size());
    if (fits != size()) resize(fits);
    const QSize outer = fits + around;
    const QPoint place(std::clamp(frame.x(), room.left(), std::max(room.left(), room.right() + 1 - outer.width())),
                       std::clamp(frame.y(), room.top(), std::max(room.top(), room.bottom() + 1 - outer.height())));
    if (place != frame.topLeft()) move(place);
}

void MainWindow::setFullScreenPicture(bool full) {
    for (QWidget* part : std::initializer_list<QWidget*>{titleBar_, toolBar_, lower_, docket_, proof_, transport_})
        part->setVisible(!full);
    full ? showFullScreen() : showNormal();
    canvas_->fit();
}

// ---- keys that are no commands

bool MainWindow::handleKey(QObject* watched, QKeyEvent* key) {
    QWidget* focus = QApplication::focusWidget();
    const bool pressed = key->type() == QEvent::KeyPress;
    if (!focus || focus->window() != this) return false;
    const bool typing =
        focus->inherits("QLineEdit") || focus->inherits("QAbstractSpinBox") || focus->inherits("QTextEdit");
    if (key->key() == Qt::Key_H && !key->isAutoRepeat() && key->modifiers() == Qt::NoModifier && !typing) {
        canvas_->setOverlays(!pressed);
        return true;
    }
    if (!key->isAutoRepeat() && !typing) {
        const QKeySequence held(key->keyCombination());
        for (const auto& stage : stages_)
            if (stage->keyHeld(held, pressed)) return true;
    }
    // A number is typed and entered; the next key is meant for the picture again.
    if (pressed && focus->inherits("QAbstractSpinBox") && (key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter))
        QTimer::singleShot(0, canvas_, [this] { canvas_->setFocus(); });
    if (!pressed || watched != canvas_) return false;
    const double step = key->modifiers() & Qt::ShiftModifier ? 1.0 : 0.1;
    switch (key->key()) {
        case Qt::Key_Left:
            canvas_->nudge({-step, 0});
            return true;
        case Qt::Key_Right:
            canvas_->nudge({step, 0});
            return true;
        case Qt::Key_Up:
            canvas_->nudge({0, -step});
            return true;
        case Qt::Key_Down:
            canvas_->nudge({0, step});
            return true;
        default:
            return false;
    }
}

bool MainWindow::eventFilter(QObject* watched, QEvent* event) {
    if ((event->type() == QEvent::KeyPress || event->type() == QEvent::KeyRelease) &&
        handleKey(watched, static_cast<QKeyEvent*>(event)))
        return true;
    // The wheel over a field that nobody works in scrolls the card, and changes no number.
    if (auto* field = event->type() == QEvent::Wheel ? qobject_cast<QWidget*>(watched) : nullptr;
        field && (field->inherits("QAbstractSpinBox") || field->inherits("QComboBox")) && !field->hasFocus()) {
        event->ignore();
        return true;
    }
    return QMainWindow::eventFilter(watched, event);
}

}  // namespace pinion
