#include "mainwindow.h"

#include "jobs/delivering.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/locatoredits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/history.h"
#include "shot/stages/steadystage.h"
#include "theme.h"

#include <QSettings>
#include <QScreen>
#include <QApplication>
#include <QCloseEvent>
#include <QComboBox>
#include <QDialog>
#include <QDragEnterEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QProgressBar>
#include <QPushButton>
#include <QSplitter>
#include <QStackedWidget>
#include <QTextBrowser>
#include <QToolButton>
#include <QVBoxLayout>

namespace pinion {
namespace {

QString text(const std::string& utf8) { return QString::fromStdString(utf8); }

QWidget* bar(const QString& name, int height, QHBoxLayout*& layout) {
    auto* widget = new QWidget;
    widget->setObjectName(name);
    widget->setFixedHeight(height);
    layout = new QHBoxLayout(widget);
    layout->setContentsMargins(12, 0, 12, 0);
    layout->setSpacing(4);
    return widget;
}

QToolButton* tool(const QString& name, const QString& icon = {}) {
    auto* button = new QToolButton;
    button->setText(name);
    button->setFocusPolicy(Qt::NoFocus);
    if (!icon.isEmpty()) {
        button->setIcon(theme::icon(icon));
        button->setIconSize({16, 16});
    }
    return button;
}

QToolButton* iconTool(QAction* action, const QString& icon) {
    auto* button = new QToolButton;
    button->setDefaultAction(action);
    action->setIcon(theme::icon(icon));
    action->setIconVisibleInMenu(false);
    button->setToolButtonStyle(Qt::ToolButtonIconOnly);
    button->setIconSize({17, 17});
    button->setFocusPolicy(Qt::NoFocus);
    return button;
}

constexpr const char* kPlateEndings =
    "*.mp4 *.mov *.mkv *.avi *.mxf *.webm *.exr *.dpx *.tif *.tiff *.png *.jpg *.jpeg";

}  // namespace

MainWindow::MainWindow(QWidget* parent) : QMainWindow(parent), workspace_(this) {
    setObjectName("mainWindow");
    setWindowTitle("Pinion");
    setAcceptDrops(true);
    resize(1280, 800);
    commands_ = new Commands(this);
    canvas_ = new Canvas(workspace_);
    sheet_ = new ThreadSheet(workspace_);
    curves_ = new CurvesPanel(workspace_);
    docket_ = new Docket(workspace_);
    proof_ = new ProofStrip(workspace_);
    makeCommands();
    makeTrackCommands();

    views_ = new QStackedWidget;
    views_->addWidget(canvas_);
    if (hasOpenGL()) {
        world_ = new WorldView(workspace_);
        worldPage_ = world_;
    } else {
        auto* label = new QLabel(
            "This machine has no OpenGL 3.3, so there is no 3D view.\nEverything else works; the ground grid is drawn "
            "over the plate.");
        label->setAlignment(Qt::AlignCenter);
        label->setProperty("dim", true);
        worldPage_ = label;
    }
    views_->addWidget(worldPage_);

    auto* upper = new QWidget;
    auto* upperLayout = new QVBoxLayout(upper);
    upperLayout->setContentsMargins(0, 0, 0, 0);
    upperLayout->setSpacing(0);
    toolBar_ = makeToolBar();
    upperLayout->addWidget(toolBar_);
    upperLayout->addWidget(views_, 1);
    lower_ = new QWidget;
    auto* lowerLayout = new QVBoxLayout(lower_);
    lowerLayout->setContentsMargins(0, 0, 0, 0);
    lowerLayout->setSpacing(0);
    lowerLayout->addWidget(makeSheetHeader());
    sheets_ = new QStackedWidget;
    sheets_->addWidget(sheet_);
    sheets_->addWidget(curves_);
    lowerLayout->addWidget(sheets_, 1);
    middle_ = new QSplitter(Qt::Vertical);
    middle_->setHandleWidth(1);
    middle_->addWidget(upper);
    middle_->addWidget(lower_);
    middle_->setStretchFactor(0, 1);
    middle_->setSizes({520, 190});
    middle_->setChildrenCollapsible(false);
    transport_ = makeTransport();
    auto* centre = new QWidget;
    auto* centreLayout = new QVBoxLayout(centre);
    centreLayout->setContentsMargins(0, 0, 0, 0);
    centreLayout->setSpacing(0);
    centreLayout->addWidget(middle_, 1);
    centreLayout->addWidget(transport_);
    columns_ = new QSplitter(Qt::Horizontal);
    columns_->setHandleWidth(1);
    columns_->addWidget(docket_);
    columns_->addWidget(centre);
    columns_->addWidget(proof_);
    columns_->setStretchFactor(1, 1);
    columns_->setSizes({256, 846, 178});
    columns_->setCollapsible(1, false);
    docket_->setMinimumWidth(232);

    QHBoxLayout* noteLayout = nullptr;
    noteBar_ = bar("noteBar", 30, noteLayout);
    noteBar_->setStyleSheet("#noteBar { background: #2a2a2a; border: 1px solid #444; border-radius: 4px; }");
    note_ = new QLabel;
    note_->setObjectName("note");
    note_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    auto* dismiss = new QPushButton("Dismiss");
    dismiss->setFlat(true);
    noteLayout->addWidget(note_, 1);
    noteLayout->addWidget(dismiss);
    connect(dismiss, &QPushButton::clicked, noteBar_, &QWidget::hide);
    noteBar_->hide();
    recoveryBar_ = bar("recoveryBar", 36, recoveryLayout_);
    recoveryBar_->setStyleSheet("#recoveryBar { background: #3a3325; }");
    recoveryBar_->hide();

    auto* whole = new QWidget;
    auto* wholeLayout = new QVBoxLayout(whole);
    wholeLayout->setContentsMargins(0, 0, 0, 0);
    wholeLayout->setSpacing(0);
    titleBar_ = makeTitleBar();
    wholeLayout->addWidget(recoveryBar_);
    wholeLayout->addWidget(columns_, 1);
    setCentralWidget(whole);
    noteBar_->setParent(whole);
    makeMenus();

    connect(&workspace_, &Workspace::shotChanged, this, &MainWindow::refresh);
    connect(&workspace_, &Workspace::plateChanged, this, &MainWindow::refresh);
    connect(&workspace_, &Workspace::fileChanged, this, &MainWindow::refresh);
    connect(&workspace_, &Workspace::jobChanged, this, &MainWindow::refresh);
    connect(&workspace_, &Workspace::outsideAsked, this,
            [this](const std::vector<QString>& names, const QStringList& paths) {
                QMessageBox box(QMessageBox::NoIcon, "Pinion",
                                "This shot would write outside its delivery folder:\n" + paths.join("\n"),
                                QMessageBox::NoButton, this);
                auto* write = box.addButton("Write there", QMessageBox::AcceptRole);
                box.setDefaultButton(qobject_cast<QPushButton*>(box.addButton("Cancel", QMessageBox::RejectRole)));
                box.exec();
                if (box.clickedButton() == write) workspace_.startDelivery(names, true);
            });
    connect(&workspace_, &Workspace::selectionChanged, this, [this] { commands_->refresh(); });
    connect(&workspace_, &Workspace::frameChanged, this, &MainWindow::refreshTransport);
    connect(&workspace_, &Workspace::playingChanged, this, &MainWindow::refreshTransport);
    connect(&workspace_, &Workspace::saidNote, this, [this](const QString& words) { showNote(words, false); });
    connect(&workspace_, &Workspace::saidError, this, [this](const QString& words) { showNote(words, true); });
    connect(commands_, &Commands::refused, this, [this](const QString& why) { showNote(why, false); });
    connect(canvas_, &Canvas::openAsked, this,
            [this](const QString& path) { leaveOr([this, path] { workspace_.open(path.toStdString()); }); });
    connect(canvas_, &Canvas::pointed, this, [this](const QString& words) { pointedLabel_->setText(words); });
    connect(canvas_, &Canvas::toolChanged, this, [this](Tool) {
        selectTool_->setChecked(canvas_->tool() == Tool::select);
        placeTool_->setChecked(canvas_->tool() == Tool::place);
        areaTool_->setChecked(canvas_->tool() == Tool::area);
    });
    noteTimer_.setSingleShot(true);
    connect(&noteTimer_, &QTimer::timeout, noteBar_, &QWidget::hide);
    qApp->installEventFilter(this);
    refresh();
}

QString MainWindow::whyNoPlate() const { return workspace_.hasPlate() ? QString() : QString("no plate is open"); }

void MainWindow::makeCommands() {
    const auto plate = [this] { return whyNoPlate(); };
    const auto idle = [this] { return workspace_.isBusy() ? QString("a job is running") : QString(); };
    const auto plateIdle = [this] {
        return !whyNoPlate().isEmpty() ? whyNoPlate() : workspace_.isBusy() ? QString("a job is running") : QString();
    };
    const auto selected = [this, plateIdle] {
        return !plateIdle().isEmpty()           ? plateIdle()
               : workspace_.selection().empty() ? QString("no track is selected")
                                                : QString();
    };
    Commands& c = *commands_;
    using K = QKeySequence;
    c.add(
        "Shot", "Open plate or shot…", {K("Ctrl+O")}, [this] { openDialog(); }, idle);
    c.add(
        "Shot", "Relink plate…", {},
        [this] {
            const QString path = QFileDialog::getOpenFileName(this, "Where the plate is now", {},
                                                              QString("Plates (%1);;All files (*)").arg(kPlateEndings));
            if (!path.isEmpty()) workspace_.relinkPlate(path.toStdString());
        },
        [this, idle] {
            return !idle().isEmpty()                  ? idle()
                   : workspace_.shot().plate.isOpen() ? QString()
                                                      : QString("open a plate first");
        });
    c.add(
        "Shot", "Save", {K("Ctrl+S")}, [this] { save(); },
        [this] { return workspace_.shot().plate.isOpen() ? QString() : QString("there is nothing to save"); });
    c.add(
        "Shot", "Save as…", {K("Ctrl+Shift+S")}, [this] { saveAs(); },
        [this] { return workspace_.shot().plate.isOpen() ? QString() : QString("there is nothing to save"); });
    c.add(
        "Shot", "Import tracks…", {K("Ctrl+I")}, [this] { importDialog(); }, plateIdle);
    c.add(
        "Shot", "Check the plate", {K("Ctrl+Shift+L")},
        [this] {
            docket_->open(Stage::plate);
            workspace_.startPlateCheck();
        },
        plateIdle);
    c.add(
        "Shot", "Deliver all", {K("Ctrl+D")}, [this] { workspace_.startDelivery({}); },
        [this, idle] {
            return !idle().isEmpty()                    ? idle()
                   : workspace_.shot().tracks.isEmpty() ? QString("there is nothing to deliver yet")
                                                        : QString();
        });
    c.add("Shot", "Quit", {K("Ctrl+Q")}, [this] { close(); });

    c.add(
        "Edit", "Undo", {K("Ctrl+Z")}, [this] { workspace_.undo(); },
        [this, idle] {
            return !idle().isEmpty()                ? idle()
                   : workspace_.history().canUndo() ? QString()
                                                    : QString("there is nothing to undo");
        });
    c.add(
        "Edit", "Redo", {K("Ctrl+Shift+Z"), K("Ctrl+Y")}, [this] { workspace_.redo(); },
        [this, idle] {
            return !idle().isEmpty()                ? idle()
                   : workspace_.history().canRedo() ? QString()
                                                    : QString("there is nothing to redo");
        });
    c.add(
        "Edit", "Delete tracks", {K("Delete")},
        [this] {
            auto tracks = workspace_.selected();
            const auto locked = std::erase_if(tracks, [this](TrackId id) {
                const Track* t = findTrack(workspace_.shot(), id);
                return t && t->locked;
            });
            if (locked > 0) workspace_.say(QString("%1 locked tracks stay. Unlock them to delete them.").arg(locked));
            if (tracks.empty()) return;
            workspace_.select({});
            workspace_.edit(
                tracks.size() == 1 ? QString("Delete a track") : QString("Delete %1 tracks").arg(tracks.size()),
                withTracksRemoved(workspace_.shot(), tracks));
        },
        selected);
    c.add(
        "Edit", "Select all tracks", {K("Ctrl+A")},
        [this] {
            std::set<TrackId> all;
            for (const Track& track : workspace_.shot().tracks) all.insert(track.id);
            workspace_.select(all);
        },
        plate);
    c.add("Edit", "Select nothing", {K("Escape")}, [this] {
        if (isFullScreen()) {
            setFullScreenPicture(false);
            return;
        }
        canvas_->setTool(Tool::select);
        canvas_->dropOutline();
        workspace_.clearProposals();
        workspace_.select({});
    });
    c.add("Edit", "Find a command…", {K("Ctrl+K"), K("F1")}, [this] { showCommandFinder(*commands_, this); });

    c.add("View", "Plate", {K("Ctrl+1")}, [this] { setView(View::plate); });
    const auto steadied = [this, plate] {
        return !plate().isEmpty()                          ? plate()
               : workspace_.shot().steady.changesPicture() ? QString()
                                                           : QString("nothing is steadied and no shake is lent");
    };
    c.add(
        "View", "Steadied picture", {K("Ctrl+3")}, [this] { setView(View::steady); }, steadied);
    c.add(
        "View", "Compare by a wipe", {K("Ctrl+4")}, [this] { setView(View::wipe); }, steadied);
    c.add(
        "View", "Compare side by side", {K("Ctrl+5")}, [this] { setView(View::beside); }, steadied);
    c.add(
        "View", "Hold the canvas on the track", {K("N")},
        [this] {
            const TrackId wanted = workspace_.selection().empty() ? 0 : *workspace_.selection().begin();
            workspace_.follow(workspace_.followed() == wanted ? 0 : wanted);
            setView(View::plate);
        },
        [this] {
            return workspace_.selection().empty() && workspace_.followed() == 0 ? QString("no track is selected")
                                                                                : QString();
        });
    c.add("View", "Thread sheet or curves", {K("U")}, [this] { showCurves(sheets_->currentWidget() != curves_); });
    c.add("View", "3D", {K("Ctrl+2")}, [this] { setView(View::world); });
    c.add(
        "View", "Look through the camera", {K("C")},
        [this] {
            setView(View::world);
            if (world_) world_->setThroughCamera(!world_->throughCamera());
            throughButton_->setChecked(world_ && world_->throughCamera());
        },
        [this] {
            return !world_                   ? QString("this machine has no OpenGL")
                   : workspace_.shot().solve ? QString()
                                             : QString("there is no camera yet");
        });
    c.add("View", "Fit the picture", {K("F")}, [this] {
        canvas_->fit();
        if (world_) world_->frameAll();
    });
    c.add("View", "Zoom 100 %", {K("1")}, [this] { canvas_->zoomTo(1.0); });
    c.add("View", "Zoom 400 %", {K("4")}, [this] { canvas_->zoomTo(4.0); });
    c.add("View", "Ground grid on the plate", {K("G")}, [this] {
        canvas_->setGrid(!canvas_->gridShown());
        gridButton_->setChecked(canvas_->gridShown());
    });
    c.add("View", "Full-screen picture", {K("F11")}, [this] { setFullScreenPicture(!isFullScreen()); });

    c.add(
        "Play", "Play or pause", {K("Space")}, [this] { workspace_.setPlaying(!workspace_.isPlaying()); }, plate);
    c.add(
        "Play", "Step back", {K(",")},
        [this] {
            workspace_.setPlaying(false);
            workspace_.step(-1);
        },
        plate);
    c.add(
        "Play", "Step forward", {K(".")},
        [this] {
            workspace_.setPlaying(false);
            workspace_.step(1);
        },
        plate);
    c.add(
        "Play", "Ten frames back", {K("Shift+,"), K("<")}, [this] { workspace_.step(-10); }, plate);
    c.add(
        "Play", "Ten frames forward", {K("Shift+."), K(">")}, [this] { workspace_.step(10); }, plate);
    c.add(
        "Play", "First frame of the range", {K("Home")},
        [this] { workspace_.goTo(workspace_.shot().plate.range.first); }, plate);
    c.add(
        "Play", "Last frame of the range", {K("End")}, [this] { workspace_.goTo(workspace_.shot().plate.range.last); },
        plate);
    c.add(
        "Play", "Reference frame of the track", {K("R")},
        [this] {
            if (const Track* track = findTrack(workspace_.shot(), *workspace_.selection().begin()))
                workspace_.goTo(track->referenceFrame);
        },
        selected);
    c.add(
        "Play", "Range begins here", {K("I")},
        [this] {
            workspace_.edit(
                "Range begins here",
                withRange(workspace_.shot(),
                          {workspace_.frame(), std::max(workspace_.frame(), workspace_.shot().plate.range.last)}));
        },
        plateIdle);
    c.add(
        "Play", "Range ends here", {K("O")},
        [this] {
            workspace_.edit(
                "Range ends here",
                withRange(workspace_.shot(),
                          {std::min(workspace_.frame(), workspace_.shot().plate.range.first), workspace_.frame()}));
        },
        plateIdle);

    c.add("Track", "Select tool", {K("V")}, [this] { canvas_->setTool(Tool::select); });
    c.add(
        "Track", "Place track", {K("T")},
        [this] {
            setView(View::plate);
            canvas_->setTool(Tool::place);
        },
        plate);
    c.add(
        "Track", "Track backward", {K("Shift+B")},
        [this] { workspace_.startTrack(workspace_.selected(), Direction::backward, 0); }, selected);
    c.add(
        "Track", "Track one frame backward", {K("Ctrl+,")},
        [this] { workspace_.startTrack(workspace_.selected(), Direction::backward, 1); }, selected);
    c.add(
        "Track", "Track one frame forward", {K("Ctrl+.")},
        [this] { workspace_.startTrack(workspace_.selected(), Direction::forward, 1); }, selected);
    c.add(
        "Track", "Track forward", {K("Shift+F")},
        [this] { workspace_.startTrack(workspace_.selected(), Direction::forward, 0); }, selected);
    c.add(
        "Track", "Track both ways", {K("Shift+T")},
        [this] { workspace_.startTrack(workspace_.selected(), Direction::both, 0); }, selected);
    c.add(
        "Track", "Show candidates", {K("Shift+C")},
        [this] {
            docket_->open(Stage::tracks);
            workspace_.showCandidates(!workspace_.candidatesShown());
        },
        plate);
    c.add(
        "Track", "Scatter", {K("Ctrl+Shift+T")}, [this] { workspace_.startScatter(); }, plateIdle);
    c.add(
        "Track", "Set selected aside", {K("X")},
        [this] {
            const auto tracks = workspace_.selected();
            workspace_.edit(QString("Set %1 tracks aside").arg(tracks.size()),
                            withSetAside(workspace_.shot(), tracks, true));
        },
        selected);
    c.add(
        "Track", "Bring selected back", {K("Shift+X")},
        [this] {
            const auto tracks = workspace_.selected();
            workspace_.edit(QString("Bring %1 tracks back").arg(tracks.size()),
                            withSetAside(workspace_.shot(), tracks, false));
        },
        selected);
    c.add(
        "Track", "Stop the running job", {K("Shift+Escape")}, [this] { workspace_.stopJob(); },
        [this] { return workspace_.isBusy() ? QString() : QString("no job is running"); });

    c.add(
        "Solve", "Solve camera", {K("Ctrl+Return")},
        [this] {
            docket_->open(Stage::camera);
            workspace_.startSolve();
        },
        [this, plateIdle] {
            return !plateIdle().isEmpty()               ? plateIdle()
                   : workspace_.shot().tracks.isEmpty() ? QString("there are no tracks; scatter first")
                                                        : QString();
        });
    c.add(
        "Solve", "Ground from selected tracks", {},
        [this] {
            World world = workspace_.shot().world;
            world.ground = List<TrackId>(workspace_.selected());
            if (const auto oriented = orient(world, *workspace_.shot().solve); !oriented)
                workspace_.sayError(text(oriented.error().message));
            else workspace_.edit("Set ground", withWorld(workspace_.shot(), world));
        },
        [this] {
            return !workspace_.shot().solve            ? QString("there is no camera yet")
                   : workspace_.selection().size() < 3 ? QString("select three tracks on the floor")
                                                       : QString();
        });

    c.add("Help", "Keys and mouse", {K("Ctrl+/")}, [this] { showKeyTable(*commands_, this); });
    c.add("Help", "About Pinion", {}, [this] { showAbout(); });
}

const Track* MainWindow::oneTrack() const {
    return workspace_.selection().size() == 1 ? findTrack(workspace_.shot(), *workspace_.selection().begin()) : nullptr;
}

QString MainWindow::whyNotOne() const {
    if (!workspace_.hasPlate()) return "no plate is open";
    if (workspace_.isBusy()) return "a job is running";
    const Track* track = oneTrack();
    return !track ? QString("select one track") : track->locked ? QString("the track is locked") : QString();
}

void MainWindow::makeTrackCommands() {
    Commands& c = *commands_;
    using K = QKeySequence;
    const auto one = [this] { return whyNotOne(); };
    const auto here = [this] {
        return !whyNotOne().isEmpty()                      ? whyNotOne()
               : sampleAt(*oneTrack(), workspace_.frame()) ? QString()
                                                           : QString("the track is not on this frame");
    };
    const auto idle = [this] {
        return !whyNoPlate().isEmpty() ? whyNoPlate() : workspace_.isBusy() ? QString("a job is running") : QString();
    };
    const auto some = [this, idle] {
        return !idle().isEmpty()                ? idle()
               : workspace_.selection().empty() ? QString("no track is selected")
                                                : QString();
    };
    const auto marked = [this, some] {
        return !some().isEmpty()  ? some()
               : sheet_->marked() ? QString()
                                  : QString("mark frames in the thread sheet with a rubber band");
    };
    const auto changed = [this](const QString& name, const std::function<void(Track&)>& edit, bool evenLocked = false) {
        workspace_.edit(name, withTracksEdited(workspace_.shot(), workspace_.selected(), edit, evenLocked));
    };

    c.add(
        "Track", "Make this frame a tie", {K("K")},
        [this] {
            const Track* track = oneTrack();
            workspace_.placeTie(track->id, workspace_.frame(), sampleAt(*track, workspace_.frame())->at,
                                "Tie of " + text(track->name));
        },
        here);
    c.add(
        "Track", "Remove the tie here", {K("Shift+K")},
        [this] {
            const Track* track = oneTrack();
            workspace_.editTie("Remove a tie of " + text(track->name),
                               withTieRemoved(workspace_.shot(), track->id, workspace_.frame()), track->id,
                               workspace_.frame());
        },
        [this, here] {
            if (!here().isEmpty()) return here();
            const Track* track = oneTrack();
            return !sampleAt(*track, workspace_.frame())->tie ? QString("this frame is no tie")
                   : track->samples.size() < 2                ? QString("it is the track's only frame")
                                                              : QString();
        });
    c.add(
        "Track", "Renew the reference here", {K("Shift+R")},
        [this] {
            const Track* track = oneTrack();
            workspace_.editTie("Renew the reference of " + text(track->name),
                               withReferenceRenewed(workspace_.shot(), track->id, workspace_.frame()), track->id,
                               workspace_.frame());
        },
        here);
    const auto toTie = [this](int direction) {
        const Track* track = oneTrack();
        std::optional<int> best;
        for (const Sample& sample : track->samples)
            if (sample.tie && (sample.frame - workspace_.frame()) * direction > 0 &&
                (!best || std::abs(sample.frame - workspace_.frame()) < std::abs(*best - workspace_.frame())))
                best = sample.frame;
        if (best) workspace_.goTo(*best);
        else workspace_.say("There is no other tie on that side.");
    };
    c.add(
        "Track", "Next tie", {K("]")}, [toTie] { toTie(1); }, one);
    c.add(
        "Track", "Previous tie", {K("[")}, [toTie] { toTie(-1); }, one);
    c.add(
        "Track", "Go to where it begins to go wrong", {K("W")},
        [this] {
            const Track* track = oneTrack();
            if (const auto frame = firstDoubt(*track)) workspace_.goTo(*frame);
            else workspace_.say(QString("%1 fits on all of its frames.").arg(text(track->name)));
        },
        [this] { return oneTrack() ? QString() : QString("select one track"); });
    c.add(
        "Track", "Track what is bad", {K("Ctrl+Shift+B")}, [this] { workspace_.startTrackBad(workspace_.selected()); },
        some);
    c.add(
        "Track", "Bridge the gaps", {K("B")}, [changed] { changed("Bridge gaps", [](Track& t) { t = bridged(t); }); },
        some);
    c.add(
        "Track", "Draw its outline", {K("Shift+O")},
        [this] {
            setView(View::plate);
            canvas_->setTool(Tool::outline);
        },
        here);
    c.add(
        "Track", "Find spots in an area", {K("Shift+P")},
        [this] {
            setView(View::plate);
            canvas_->setTool(Tool::area);
        },
        idle);
    c.add(
        "Track", "Place tracks on the proposed spots", {K("Ctrl+Shift+P")},
        [this] {
            Shot shot = workspace_.shot();
            std::set<TrackId> placed;
            for (const SpotProposal& spot : workspace_.proposals()) {
                TrackId id = 0;
                shot = withTrackAdded(shot, workspace_.proposalsFrame(), spot.at, &id);
                placed.insert(id);
            }
            workspace_.clearProposals();
            workspace_.edit(QString("Place %1 tracks").arg(placed.size()), std::move(shot));
            workspace_.select(placed);
            canvas_->setTool(Tool::select);
        },
        [this, idle] {
            return !idle().isEmpty()                ? idle()
                   : workspace_.proposals().empty() ? QString("no spots are proposed; find some in an area first")
                                                    : QString();
        });
    c.add(
        "Track", "Duplicate", {K("Ctrl+Shift+D")},
        [this] {
            std::vector<TrackId> copies;
            Shot shot = withTracksDuplicated(workspace_.shot(), workspace_.selected(), &copies);
            workspace_.edit(QString("Duplicate %1 tracks").arg(copies.size()), std::move(shot));
            workspace_.select({copies.begin(), copies.end()});
        },
        some);
    c.add(
        "Track", "Join two tracks", {K("J")},
        [this] {
            const auto tracks = workspace_.selected();
            const Track *a = findTrack(workspace_.shot(), tracks[0]), *b = findTrack(workspace_.shot(), tracks[1]);
            workspace_.edit(QString("Join %1 and %2").arg(text(a->name), text(b->name)),
                            withTracksJoined(workspace_.shot(), tracks[0], tracks[1]));
            workspace_.select({tracks[0]});
        },
        [this, idle] {
            return !idle().isEmpty()                    ? idle()
                   : workspace_.selection().size() == 2 ? QString()
                                                        : QString("select the two tracks of one feature");
        });
    c.add(
        "Track", "Lock or unlock", {K("Ctrl+Shift+K")},
        [this, changed] {
            const Track* first = findTrack(workspace_.shot(), *workspace_.selection().begin());
            const bool lock = !first->locked;
            changed(
                lock ? "Lock tracks" : "Unlock tracks", [lock](Track& t) { t.locked = lock; }, true);
        },
        some);
    c.add(
        "Track", "Hide", {K("Shift+H")},
        [this, changed] {
            changed(
                "Hide tracks", [](Track& t) { t.hidden = true; }, true);
            workspace_.select({});
        },
        some);
    c.add(
        "Track", "Show all", {K("Ctrl+Shift+H")},
        [this] {
            std::vector<TrackId> all;
            for (const Track& track : workspace_.shot().tracks)
                if (track.hidden) all.push_back(track.id);
            workspace_.edit("Show all tracks", withTracksEdited(
                                                   workspace_.shot(), all, [](Track& t) { t.hidden = false; }, true));
        },
        [this] {
            return std::any_of(workspace_.shot().tracks.begin(), workspace_.shot().tracks.end(),
                               [](const Track& t) { return t.hidden; })
                       ? QString()
                       : QString("no track is hidden");
        });
    c.add(
        "Track", "Select its group", {K("Ctrl+G")},
        [this] {
            std::set<std::string> groups;
            for (TrackId id : workspace_.selected())
                if (const Track* track = findTrack(workspace_.shot(), id); track && !track->group.empty())
                    groups.insert(track->group);
            std::set<TrackId> all = workspace_.selection();
            for (const Track& track : workspace_.shot().tracks)
                if (groups.contains(track.group)) all.insert(track.id);
            workspace_.select(all);
        },
        some);
    c.add(
        "Track", "Cut the marked frames", {K("Ctrl+Shift+X")},
        [this, changed] {
            const FrameRange frames = *sheet_->marked();
            changed(QString("Cut %1–%2").arg(frames.first).arg(frames.last), [frames](Track& t) {
                List<Sample> kept = t.samples.edited([&](auto& samples) {
                    std::erase_if(samples, [&](const Sample& s) { return frames.holds(s.frame); });
                });
                if (kept.isEmpty()) return;
                t.samples = kept;
                if (!sampleAt(t, t.referenceFrame)) t.referenceFrame = t.firstFrame();
            });
        },
        marked);
    c.add(
        "Track", "Keep only the marked frames", {K("Ctrl+Shift+M")},
        [this] {
            const FrameRange frames = *sheet_->marked();
            workspace_.edit(QString("Keep %1–%2").arg(frames.first).arg(frames.last),
                            withTracksTrimmed(workspace_.shot(), workspace_.selected(), frames));
        },
        marked);

    c.add(
        "Steady", "Steady on the selected tracks", {K("Ctrl+H")},
        [this] {
            Shot shot = workspace_.shot();
            shot.steady.steady = true;
            shot.steady.source = SteadySettings::Source::chosen;
            shot.steady.tracks = List<TrackId>(workspace_.selected());
            shot.steady.cornerPin = false;
            shot.steady.referenceFrame = workspace_.frame();
            docket_->open(Stage::steady);
            workspace_.edit(QString("Steady on %1 tracks").arg(shot.steady.tracks.size()), shot);
            setView(View::steady);
        },
        some);
    c.add(
        "Steady", "Steady on all tracks", {K("Ctrl+Shift+A")},
        [this] {
            Shot shot = workspace_.shot();
            shot.steady.steady = true;
            shot.steady.source = SteadySettings::Source::allTracks;
            docket_->open(Stage::steady);
            workspace_.edit("Steady on all tracks", shot);
            setView(View::steady);
        },
        [this, idle] {
            return !idle().isEmpty()                    ? idle()
                   : workspace_.shot().tracks.isEmpty() ? QString("there are no tracks; scatter first")
                                                        : QString();
        });
    c.add(
        "Steady", "Locator on the selected tracks", {K("Ctrl+L")},
        [this] { hangOn(workspace_.selection().size() == 1 ? MotionKind::position : MotionKind::similarity); }, some);
    c.add(
        "Steady", "Corner pin on four tracks", {K("Ctrl+Alt+L")}, [this] { hangOn(MotionKind::cornerPin); },
        [this, idle] {
            return !idle().isEmpty()                    ? idle()
                   : workspace_.selection().size() == 4 ? QString()
                                                        : QString("select four tracks");
        });
    c.add(
        "Steady", "Copy the transforms of the selected tracks", {K("Ctrl+Shift+C")},
        [this] {
            const Shot with =
                withLocatorAdded(workspace_.shot(), workspace_.selected(), workspace_.frame(),
                                 workspace_.selection().size() == 1 ? MotionKind::position : MotionKind::similarity);
            // Copied from a shot that has the locator, without leaving one behind.
            workspace_.startCopy(with, with.deliverables.back());
        },
        some);
}

/// A locator on the selected tracks, refused with the reason where their motion does not give one.
void MainWindow::hangOn(MotionKind kind) {
    const Shot shot = withLocatorAdded(workspace_.shot(), workspace_.selected(), workspace_.frame(), kind);
    if (const auto motion = locatorMotion(shot, shot.locators.back()); !motion) {
        workspace_.sayError(text(motion.error().message));
        return;
    }
    workspace_.edit("Locator " + text(shot.locators.back().name), shot);
    docket_->open(Stage::delivery);
    workspace_.say(QString("%1: its motion is listed for delivery, relative to frame %2.")
                       .arg(text(shot.locators.back().name))
                       .arg(workspace_.frame()));
}

void MainWindow::importDialog() {
    const QString path = QFileDialog::getOpenFileName(this, "Import tracks", {}, "Tracks (*.json *.csv)");
    if (!path.isEmpty()) workspace_.importTracks(path.toStdString());
}

void MainWindow::showCurves(bool shown) {
    sheets_->setCurrentWidget(shown ? static_cast<QWidget*>(curves_) : sheet_);
    sheetButton_->setChecked(!shown);
    curvesButton_->setChecked(shown);
    orderBox_->setVisible(!shown);
    filterEdit_->setVisible(!shown);
    curveBox_->setVisible(shown);
}

void MainWindow::makeMenus() {
    // The menus, the shot's name and the running job share one bar.
    auto* menus = new QMenuBar;
    menus->setSizePolicy(QSizePolicy::Minimum, QSizePolicy::Preferred);
    QMap<QString, QMenu*> byName;
    for (const char* name : {"Shot", "Edit", "View", "Play", "Track", "Steady", "Solve", "Help"})
        byName[name] = menus->addMenu(name);
    for (const Command& command : commands_->all()) {
        QMenu* menu = byName.value(command.menu);
        menu->addAction(command.action);
        if (command.name == "Open plate or shot…") {
            recentMenu_ = menu->addMenu("Recent");
            connect(recentMenu_, &QMenu::aboutToShow, this, [this] {
                recentMenu_->clear();
                for (const QString& path : workspace_.recent())
                    recentMenu_->addAction(
                        path, this, [this, path] { leaveOr([this, path] { workspace_.open(path.toStdString()); }); });
                if (recentMenu_->isEmpty()) recentMenu_->addAction("nothing yet")->setEnabled(false);
            });
        }
    }
    auto* row = static_cast<QHBoxLayout*>(titleBar_->layout());
    menus->setFixedHeight(30);
    row->insertWidget(0, menus, 0, Qt::AlignVCenter);
    setMenuWidget(titleBar_);
}

QWidget* MainWindow::makeTitleBar() {
    QHBoxLayout* row = nullptr;
    QWidget* widget = bar("titleBar", 40, row);
    widget->setStyleSheet("#titleBar { background: #1b1b1b; border-bottom: 1px solid #333; }");
    shotName_ = new QLabel;
    shotName_->setObjectName("shotName");
    shotName_->setProperty("title", true);
    plateFacts_ = new QLabel;
    plateFacts_->setProperty("dim", true);
    row->addSpacing(10);
    row->addWidget(shotName_);
    row->addSpacing(8);
    row->addWidget(plateFacts_, 1);
    jobArea_ = new QWidget;
    jobArea_->setObjectName("jobArea");
    auto* job = new QHBoxLayout(jobArea_);
    job->setContentsMargins(0, 0, 0, 0);
    job->setSpacing(8);
    jobName_ = new QLabel;
    jobBar_ = new QProgressBar;
    jobBar_->setRange(0, 1000);
    jobBar_->setTextVisible(false);
    jobBar_->setFixedSize(110, 4);
    jobBar_->setStyleSheet(
        "QProgressBar { background: #383838; border: none; border-radius: 2px; } QProgressBar::chunk { background: "
        "#d9a441; border-radius: 2px; }");
    jobDetail_ = new QLabel;
    jobDetail_->setProperty("dim", true);
    stop_ = new QPushButton("Stop");
    stop_->setObjectName("stopJob");
    stop_->setFocusPolicy(Qt::NoFocus);
    connect(stop_, &QPushButton::clicked, this, [this] { workspace_.stopJob(); });
    for (QWidget* part : std::initializer_list<QWidget*>{jobName_, jobBar_, jobDetail_, stop_}) job->addWidget(part);
    row->addWidget(jobArea_);
    deliver_ = new QPushButton("Deliver");
    deliver_->setObjectName("deliver");
    deliver_->setProperty("accent", true);
    deliver_->setFocusPolicy(Qt::NoFocus);
    connect(deliver_, &QPushButton::clicked, this, [this] {
        docket_->open(Stage::delivery);
        workspace_.startDelivery({});
    });
    row->addSpacing(8);
    row->addWidget(deliver_);
    return widget;
}

QWidget* MainWindow::makeToolBar() {
    QHBoxLayout* row = nullptr;
    QWidget* widget = bar("toolBar", 38, row);
    widget->setStyleSheet("#toolBar { background: #1e1e1e; border-bottom: 1px solid #2b2b2b; }");
    const auto command = [this](const QString& name) {
        for (const Command& entry : commands_->all())
            if (entry.name == name) return entry.action;
        return static_cast<QAction*>(nullptr);
    };
    selectTool_ = tool("Select", "mouse-pointer-2");
    placeTool_ = tool("Place track", "crosshair");
    areaTool_ = tool("Spots");
    areaTool_->setToolTip("Drag a box: the best places to track in it are proposed (Shift+P)");
    for (QToolButton* button : {selectTool_, placeTool_, areaTool_}) {
        button->setCheckable(true);
        button->setToolButtonStyle(Qt::ToolButtonTextBesideIcon);
        row->addWidget(button);
    }
    selectTool_->setChecked(true);
    connect(selectTool_, &QToolButton::clicked, this, [this] {
        canvas_->setTool(Tool::select);
        selectTool_->setChecked(true);
    });
    connect(placeTool_, &QToolButton::clicked, this, [this] {
        setView(View::plate);
        canvas_->setTool(Tool::place);
        placeTool_->setChecked(true);
    });
    connect(areaTool_, &QToolButton::clicked, this, [this] {
        setView(View::plate);
        canvas_->setTool(Tool::area);
        areaTool_->setChecked(true);
    });
    row->addSpacing(12);
    auto* label = new QLabel("Track");
    label->setProperty("dim", true);
    plateTools_ = {selectTool_,
                   placeTool_,
                   areaTool_,
                   iconTool(command("Track backward"), "chevrons-left"),
                   iconTool(command("Track one frame backward"), "chevron-left"),
                   label,
                   iconTool(command("Track one frame forward"), "chevron-right"),
                   iconTool(command("Track forward"), "chevrons-right")};
    for (std::size_t i = 3; i < plateTools_.size(); ++i) row->addWidget(plateTools_[i]);
    row->addStretch(1);
    gridButton_ = tool("Grid");
    gridButton_->setCheckable(true);
    gridButton_->setChecked(true);
    gridButton_->setToolTip("The ground grid over the plate (G)");
    connect(gridButton_, &QToolButton::clicked, this, [this](bool on) { canvas_->setGrid(on); });
    throughButton_ = tool("Through camera");
    throughButton_->setCheckable(true);
    throughButton_->setToolTip("Look through the solved camera (C)");
    connect(throughButton_, &QToolButton::clicked, this, [this](bool on) {
        if (world_) world_->setThroughCamera(on);
    });
    plateView_ = tool("Plate");
    compareView_ = tool("Compare");
    compareView_->setToolTip("Original and result parted by a line; again: side by side");
    steadyView_ = tool("Steady");
    worldViewButton_ = tool("3D");
    row->addWidget(gridButton_);
    row->addWidget(throughButton_);
    row->addSpacing(8);
    for (QToolButton* button : {plateView_, compareView_, steadyView_, worldViewButton_}) {
        button->setCheckable(true);
        row->addWidget(button);
    }
    plateView_->setChecked(true);
    throughButton_->hide();
    connect(plateView_, &QToolButton::clicked, this, [this] { setView(View::plate); });
    connect(compareView_, &QToolButton::clicked, this,
            [this] { setView(view_ == View::wipe ? View::beside : View::wipe); });
    connect(steadyView_, &QToolButton::clicked, this, [this] { setView(View::steady); });
    connect(worldViewButton_, &QToolButton::clicked, this, [this] { setView(View::world); });
    return widget;
}

QWidget* MainWindow::makeSheetHeader() {
    QHBoxLayout* row = nullptr;
    QWidget* widget = bar("sheetHeader", 28, row);
    widget->setStyleSheet("#sheetHeader { background: #1b1b1b; border-top: 1px solid #2b2b2b; }");
    sheetButton_ = tool("Thread sheet");
    curvesButton_ = tool("Curves");
    for (QToolButton* button : {sheetButton_, curvesButton_}) {
        button->setCheckable(true);
        row->addWidget(button);
    }
    sheetButton_->setChecked(true);
    connect(sheetButton_, &QToolButton::clicked, this, [this] { showCurves(false); });
    connect(curvesButton_, &QToolButton::clicked, this, [this] { showCurves(true); });
    row->addSpacing(10);
    orderBox_ = new QComboBox;
    orderBox_->setObjectName("sheetOrder");
    orderBox_->addItems({"by start", "by length", "by error", "by name"});
    orderBox_->setFixedWidth(96);
    connect(orderBox_, &QComboBox::activated, this, [this](int index) { sheet_->setOrder(ThreadSheet::Order(index)); });
    row->addWidget(orderBox_);
    filterEdit_ = new QLineEdit;
    filterEdit_->setObjectName("sheetFilter");
    filterEdit_->setPlaceholderText("filter by name or group");
    filterEdit_->setClearButtonEnabled(true);
    filterEdit_->setFixedWidth(180);
    connect(filterEdit_, &QLineEdit::textChanged, this, [this](const QString& words) { sheet_->setFilter(words); });
    row->addWidget(filterEdit_);
    curveBox_ = new QComboBox;
    curveBox_->setObjectName("curveChoice");
    curveBox_->addItems({"x", "y", "speed", "score", "error", "shake", "focal"});
    curveBox_->setFixedWidth(96);
    curveBox_->hide();
    connect(curveBox_, &QComboBox::activated, this,
            [this](int index) { curves_->setCurve(CurvesPanel::Curve(index)); });
    connect(curves_, &CurvesPanel::curveChanged, curveBox_,
            [this](CurvesPanel::Curve curve) { curveBox_->setCurrentIndex(int(curve)); });
    row->addWidget(curveBox_);
    row->addStretch(1);
    return widget;
}

QWidget* MainWindow::makeTransport() {
    QHBoxLayout* row = nullptr;
    QWidget* widget = bar("transport", 38, row);
    widget->setStyleSheet("#transport { background: #1b1b1b; border-top: 1px solid #333; }");
    const auto command = [this](const QString& name) {
        for (const Command& entry : commands_->all())
            if (entry.name == name) return entry.action;
        return static_cast<QAction*>(nullptr);
    };
    row->addWidget(iconTool(command("First frame of the range"), "skip-back"));
    row->addWidget(iconTool(command("Step back"), "step-back"));
    playButton_ = iconTool(command("Play or pause"), "play");
    row->addWidget(playButton_);
    row->addWidget(iconTool(command("Step forward"), "step-forward"));
    row->addWidget(iconTool(command("Last frame of the range"), "skip-forward"));
    row->addSpacing(10);
    frameLabel_ = new QLabel;
    frameLabel_->setObjectName("frame");
    frameLabel_->setProperty("title", true);
    frameLabel_->setStyleSheet("font-size: 15px;");
    rangeLabel_ = new QLabel;
    rangeLabel_->setProperty("dim", true);
    pointedLabel_ = new QLabel;
    pointedLabel_->setProperty("dim", true);
    row->addWidget(frameLabel_);
    row->addSpacing(6);
    row->addWidget(rangeLabel_);
    row->addStretch(1);
    row->addWidget(pointedLabel_);
    return widget;
}

void MainWindow::setView(View view) {
    view_ = view;
    views_->setCurrentWidget(view == View::world ? worldPage_ : canvas_);
    canvas_->setShown(view == View::steady   ? Shown::steady
                      : view == View::wipe   ? Shown::wipe
                      : view == View::beside ? Shown::beside
                                             : Shown::plate);
    plateView_->setChecked(view == View::plate);
    compareView_->setChecked(view == View::wipe || view == View::beside);
    steadyView_->setChecked(view == View::steady);
    worldViewButton_->setChecked(view == View::world);
    throughButton_->setVisible(view == View::world && world_);
    gridButton_->setVisible(view == View::plate);
    // The tools of the plate have nothing to do in the 3D view.
    for (QWidget* part : plateTools_) part->setVisible(view != View::world);
}

void MainWindow::refresh() {
    const Shot& shot = workspace_.shot();
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
        facts += workspace_.isModified() ? " · not saved" : workspace_.file().empty() ? "" : " · saved";
    }
    plateFacts_->setText(facts);
    setWindowTitle(open ? text(shot.name) + (workspace_.isModified() ? " •" : "") + " — Pinion" : QString("Pinion"));
    const bool busy = workspace_.isBusy();
    jobArea_->setVisible(busy);
    if (busy) {
        const auto& job = workspace_.jobState();
        jobName_->setText(job.name);
        jobBar_->setValue(int(job.fraction * 1000));
        QString detail = QString("%1 %").arg(int(job.fraction * 100));
        if (job.framesPerSecond > 0.1) detail += QString(" · %1 fps").arg(job.framesPerSecond, 0, 'f', 0);
        if (job.secondsLeft >= 0) detail += QString(" · %1 s left").arg(job.secondsLeft, 0, 'f', 0);
        jobDetail_->setText(detail);
    }
    deliver_->setEnabled(!busy && !shot.tracks.isEmpty());
    commands_->refresh();
    for (const Command& command : commands_->all()) {
        const History& history = workspace_.history();
        if (command.name == "Undo")
            command.action->setText(history.canUndo() ? "Undo: " + text(history.undoName()) : QString("Undo"));
        if (command.name == "Redo")
            command.action->setText(history.canRedo() ? "Redo: " + text(history.redoName()) : QString("Redo"));
    }
    refreshTransport();
}

void MainWindow::refreshTransport() {
    const PlateRef& plate = workspace_.shot().plate;
    playButton_->defaultAction()->setIcon(theme::icon(workspace_.isPlaying() ? "pause" : "play"));
    if (!plate.isOpen()) {
        frameLabel_->setText("—");
        rangeLabel_->clear();
        return;
    }
    frameLabel_->setText(QString::number(workspace_.frame()));
    rangeLabel_->setText(QString("of %1–%2 · %3 s")
                             .arg(plate.range.first)
                             .arg(plate.range.last)
                             .arg((workspace_.frame() - plate.frames.first) / plate.fps.perSecond(), 0, 'f', 3));
}

QString MainWindow::note() const { return note_->text(); }

void MainWindow::placeNote() {
    // Over the foot of the canvas: nothing moves when it comes or goes.
    const QRect canvas(views_->mapTo(centralWidget(), QPoint(0, 0)), views_->size());
    int longest = 0;
    for (const QString& line : note_->text().split('\n'))
        longest = std::max(longest, note_->fontMetrics().horizontalAdvance(line));
    const int width = std::min(canvas.width() - 24, longest + 130);
    const int height = std::max(30, note_->heightForWidth(std::max(100, width - 110)) + 12);
    noteBar_->setFixedHeight(height);
    noteBar_->setGeometry(canvas.left() + 12, canvas.bottom() - height - 8, width, height);
}

void MainWindow::resizeEvent(QResizeEvent* event) {
    QMainWindow::resizeEvent(event);
    if (noteBar_->isVisible()) placeNote();
}

void MainWindow::showNote(const QString& words, bool error) {
    note_->setText(words);
    note_->setStyleSheet(error ? "color: #f3a58e;" : "");
    note_->setWordWrap(true);
    placeNote();
    noteBar_->show();
    noteBar_->raise();
    // An error stays until it is read; a note goes by itself.
    noteTimer_.stop();
    if (!error) noteTimer_.start(6000);
}

// ---- files

void MainWindow::openDialog() {
    leaveOr([this] {
        const QString path =
            QFileDialog::getOpenFileName(this, "Open plate or shot", {},
                                         QString("Plates and shots (*.pinion %1);;All files (*)").arg(kPlateEndings));
        if (!path.isEmpty()) workspace_.open(path.toStdString());
    });
}

void MainWindow::save() {
    if (workspace_.file().empty()) saveAs();
    else workspace_.save(workspace_.file());
}

void MainWindow::saveAs() {
    const std::filesystem::path beside =
        workspace_.shot().plate.path.parent_path() / (workspace_.shot().name + ".pinion");
    QString path = QFileDialog::getSaveFileName(this, "Save shot", text(beside.string()), "Pinion shots (*.pinion)");
    if (path.isEmpty()) return;
    if (!path.endsWith(".pinion")) path += ".pinion";
    workspace_.save(path.toStdString());
}

void MainWindow::leaveOr(const std::function<void()>& go) {
    if (!workspace_.isModified()) {
        go();
        return;
    }
    QMessageBox box(QMessageBox::NoIcon, "Pinion", QString("Save the changes to %1?").arg(text(workspace_.shot().name)),
                    QMessageBox::NoButton, this);
    auto* save = box.addButton("Save", QMessageBox::AcceptRole);
    auto* drop = box.addButton("Don't save", QMessageBox::DestructiveRole);
    box.addButton("Cancel", QMessageBox::RejectRole);
    box.exec();
    if (box.clickedButton() == drop) {
        go();
    } else if (box.clickedButton() == save) {
        std::filesystem::path path = workspace_.file();
        if (path.empty()) {
            QString chosen = QFileDialog::getSaveFileName(this, "Save shot", text(workspace_.shot().name + ".pinion"),
                                                          "Pinion shots (*.pinion)");
            if (chosen.isEmpty()) return;
            if (!chosen.endsWith(".pinion")) chosen += ".pinion";
            path = chosen.toStdString();
        }
        workspace_.save(path, [go](bool saved) {
            if (saved) go();
        });
    }
}

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
    const QPoint place(std::clamp(frame.x(), room.left(), room.left() + room.width() - outer.width()),
                       std::clamp(frame.y(), room.top(), room.top() + room.height() - outer.height()));
    if (place != frame.topLeft()) move(place);
}

void MainWindow::closeEvent(QCloseEvent* event) {
    QSettings().setValue("window", saveGeometry());
    if (!workspace_.isModified() || property("closing").toBool()) {
        workspace_.stopJob();
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
    if (event->mimeData()->hasUrls() && event->mimeData()->urls().size() == 1 &&
        event->mimeData()->urls().front().isLocalFile())
        event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event) {
    const QString path = event->mimeData()->urls().front().toLocalFile();
    event->acceptProposedAction();
    leaveOr([this, path] { workspace_.open(path.toStdString()); });
}

void MainWindow::offerRecovery() {
    const auto lost = workspace_.lostShots();
    if (lost.empty()) return;
    const Workspace::Lost one = lost.front();
    auto* label = new QLabel(QString("%1 was not saved when Pinion ended last time.").arg(one.name));
    label->setObjectName("recoveryText");
    auto* recover = new QPushButton("Recover");
    recover->setObjectName("recover");
    recover->setProperty("accent", true);
    auto* discard = new QPushButton("Discard");
    discard->setObjectName("discard");
    recoveryLayout_->addWidget(label, 1);
    recoveryLayout_->addWidget(recover);
    recoveryLayout_->addWidget(discard);
    recoveryBar_->show();
    const auto finish = [this] {
        recoveryBar_->hide();
        while (QLayoutItem* item = recoveryLayout_->takeAt(0)) {
            if (item->widget()) item->widget()->deleteLater();
            delete item;
        }
        QTimer::singleShot(0, this, [this] { offerRecovery(); });
    };
    connect(recover, &QPushButton::clicked, this, [this, one] {
        // What is open may not be saved either.
        leaveOr([this, one] {
            workspace_.recover(one);
            recoveryBar_->hide();
            while (QLayoutItem* item = recoveryLayout_->takeAt(0)) {
                if (item->widget()) item->widget()->deleteLater();
                delete item;
            }
        });
    });
    connect(discard, &QPushButton::clicked, this, [this, one, finish] {
        workspace_.discard(one);
        finish();
    });
}

void MainWindow::showAbout() {
    auto* dialog = new QDialog(this);
    dialog->setObjectName("about");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle("About Pinion");
    dialog->resize(460, 360);
    auto* layout = new QVBoxLayout(dialog);
    auto* words = new QTextBrowser;
    words->setHtml(
        "<h2>Pinion 0.1.0</h2><p>Camera, lens and tracks from live-action footage.</p>"
        "<p>Pinion is free software under the GNU General Public License, version 3 or later. It comes with no "
        "warranty.</p>"
        "<p>It stands on Qt 6, Eigen, OpenCV, OpenImageIO, OpenEXR, FFMS2 and FFmpeg, oneTBB, Embree, nlohmann-json, "
        "fmt, CLI11, tl-expected and QCustomPlot. "
        "The type is Inter (SIL Open Font License 1.1), the icons are Lucide (ISC License). The notices are in "
        "NOTICES.md.</p>"
        "<p>The Ternholm footage is made up and rendered by the program in demo/.</p>");
    layout->addWidget(words);
    auto* close = new QPushButton("Close");
    connect(close, &QPushButton::clicked, dialog, &QDialog::close);
    layout->addWidget(close, 0, Qt::AlignRight);
    dialog->show();
}

void MainWindow::setFullScreenPicture(bool full) {
    for (QWidget* part : std::initializer_list<QWidget*>{titleBar_, toolBar_, lower_, docket_, proof_, transport_})
        part->setVisible(!full);
    full ? showFullScreen() : showNormal();
    canvas_->fit();
}

bool MainWindow::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress || event->type() == QEvent::KeyRelease) {
        auto* key = static_cast<QKeyEvent*>(event);
        QWidget* focus = QApplication::focusWidget();
        const bool typing = focus && (focus->inherits("QLineEdit") || focus->inherits("QAbstractSpinBox") ||
                                      focus->inherits("QTextEdit"));
        if (key->key() == Qt::Key_H && !key->isAutoRepeat() && key->modifiers() == Qt::NoModifier && !typing && focus &&
            focus->window() == this) {
            canvas_->setOverlays(event->type() == QEvent::KeyRelease);
            return true;
        }
        // A number is typed and entered; the next key is meant for the picture again.
        if (event->type() == QEvent::KeyPress && focus && focus->inherits("QAbstractSpinBox") &&
            focus->window() == this && (key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter))
            QTimer::singleShot(0, canvas_, [this] { canvas_->setFocus(); });
        if (event->type() == QEvent::KeyPress && watched == canvas_) {
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
                    break;
            }
        }
    }
    return QMainWindow::eventFilter(watched, event);
}

}  // namespace pinion
