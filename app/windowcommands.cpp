// The commands of the window itself: files, undoing, views, playing.

#include "about.h"
#include "mainwindow.h"
#include "settingsdialog.h"
#include "shot/edits/plateedits.h"
#include "stages/reasons.h"
#include "widgets/filedialogs.h"
#include "widgets/toolbar.h"

#include <QToolButton>

namespace pinion {

using K = QKeySequence;

void MainWindow::addShotCommands() {
    Commands& c = *commands_;
    const auto idle = [this] { return whyBusy(session_); };
    c.add(
        "Shot", "Open plate or shot…", {K("Ctrl+O")},
        [this] {
            leaveOr([this] {
                const QString path = askToOpen(FileKind::plateOrShot, "Open plate or shot", this);
                if (!path.isEmpty()) session_.open(path.toStdString());
            });
        },
        idle);
    c.add(
        "Shot", "Relink plate…", {},
        [this] {
            const QString path = askToOpen(FileKind::plate, "Where the plate is now", this);
            if (!path.isEmpty()) session_.relinkPlate(path.toStdString());
        },
        [this, idle] {
            return !idle().isEmpty()                ? idle()
                   : session_.shot().plate.isOpen() ? QString()
                                                    : QString("open a plate first");
        });
    c.add(
        "Shot", "Save", {K("Ctrl+S")}, [this] { save(); },
        [this] { return session_.shot().plate.isOpen() ? QString() : QString("there is nothing to save"); });
    c.add(
        "Shot", "Save as…", {K("Ctrl+Shift+S")}, [this] { saveAs(); },
        [this] { return session_.shot().plate.isOpen() ? QString() : QString("there is nothing to save"); });
}

void MainWindow::addEditCommands() {
    Commands& c = *commands_;
    const auto idle = [this] { return whyBusy(session_); };
    c.add(
        "Edit", "Undo", {K("Ctrl+Z")}, [this] { session_.document.undo(); },
        [this, idle] {
            return !idle().isEmpty()                       ? idle()
                   : session_.document.history().canUndo() ? QString()
                                                           : QString("there is nothing to undo");
        });
    c.add(
        "Edit", "Redo", {K("Ctrl+Shift+Z"), K("Ctrl+Y")}, [this] { session_.document.redo(); },
        [this, idle] {
            return !idle().isEmpty()                       ? idle()
                   : session_.document.history().canRedo() ? QString()
                                                           : QString("there is nothing to redo");
        });
}

void MainWindow::addViewCommands() {
    Commands& c = *commands_;
    c.add("View", "Plate", {K("Ctrl+1")}, [this] { show("plate"); });
    c.add("View", "3D", {K("Ctrl+2")}, [this] { show("3d"); });
    c.add(
        "View", "Look through the camera", {K("C")},
        [this] {
            show("3d");
            if (world_) world_->setThroughCamera(!world_->throughCamera());
            toolBar_->findChild<QToolButton*>("throughSwitch")->setChecked(world_ && world_->throughCamera());
        },
        [this] {
            return !world_                 ? QString("this machine has no OpenGL")
                   : session_.shot().solve ? QString()
                                           : QString("there is no camera yet");
        });
    c.add("View", "Fit the picture", {K("F")}, [this] {
        canvas_->fit();
        if (world_) world_->frameAll();
    });
    c.add(
        "View", "Frame the selection in 3D", {K("Shift+Z")},
        [this] {
            show("3d");
            world_->frameSelection();
        },
        [this] {
            return !world_                        ? QString("this machine has no OpenGL")
                   : session_.selection.isEmpty() ? QString("no track is selected")
                                                  : QString();
        });
    c.add("View", "Zoom 100 %", {K("1")}, [this] { canvas_->zoomTo(1.0); });
    c.add("View", "Zoom 400 %", {K("4")}, [this] { canvas_->zoomTo(4.0); });
    c.add("View", "Thread sheet or curves", {K("U")}, [this] { showCurves(!lower_->curvesShown()); });
    for (std::size_t i = 0; i < stages_.size(); ++i) {
        const QString id = stages_[i]->id();
        const QList<QKeySequence> keys =
            i < 10 ? QList<QKeySequence>{K(QString("Alt+%1").arg((i + 1) % 10))} : QList<QKeySequence>{};
        c.add("View", stages_[i]->title() + " card", keys, [this, id] { docket_->open(id); });
    }
    c.add("View", "Full-screen picture", {K("F11")}, [this] { setFullScreenPicture(!isFullScreen()); });
}

void MainWindow::addPlayCommands() {
    Commands& c = *commands_;
    const auto plate = [this] { return whyNoPlate(session_); };
    const auto plateIdle = [this] { return whyNotReady(session_); };
    c.add(
        "Play", "Play or pause", {K("Space")}, [this] { session_.player.setPlaying(!session_.player.isPlaying()); },
        plate);
    c.add(
        "Play", "Step back", {K(",")},
        [this] {
            session_.player.setPlaying(false);
            session_.player.step(-1);
        },
        plate);
    c.add(
        "Play", "Step forward", {K(".")},
        [this] {
            session_.player.setPlaying(false);
            session_.player.step(1);
        },
        plate);
    c.add(
        "Play", "Ten frames back", {K("Shift+,"), K("<")}, [this] { session_.player.step(-10); }, plate);
    c.add(
        "Play", "Ten frames forward", {K("Shift+."), K(">")}, [this] { session_.player.step(10); }, plate);
    c.add(
        "Play", "First frame of the range", {K("Home")},
        [this] { session_.player.goTo(session_.shot().plate.range.first); }, plate);
    c.add(
        "Play", "Last frame of the range", {K("End")},
        [this] { session_.player.goTo(session_.shot().plate.range.last); }, plate);
    c.add(
        "Play", "Range begins here", {K("I")},
        [this] {
            session_.edit(
                "Range begins here",
                withRange(session_.shot(), {session_.player.frame(),
                                            std::max(session_.player.frame(), session_.shot().plate.range.last)}));
        },
        plateIdle);
    c.add(
        "Play", "Range ends here", {K("O")},
        [this] {
            session_.edit(
                "Range ends here",
                withRange(session_.shot(), {std::min(session_.player.frame(), session_.shot().plate.range.first),
                                            session_.player.frame()}));
        },
        plateIdle);
}

void MainWindow::addLastCommands() {
    Commands& c = *commands_;
    c.add("Edit", "Select nothing", {K("Escape")}, [this] {
        if (isFullScreen()) {
            setFullScreenPicture(false);
            return;
        }
        canvas_->putDown();
        canvas_->takeTool("select");
        for (const auto& stage : stages_) stage->escape();
        session_.selection.set({});
    });
    c.add("Edit", "Find a command…", {K("Ctrl+K"), K("F1")}, [this] { showCommandFinder(*commands_, this); });
    c.add(
        "Track", "Stop the running job", {K("Shift+Escape")}, [this] { session_.jobs.stop(); },
        [this] { return session_.isBusy() ? QString() : QString("no job is running"); });
    c.add("Edit", "Settings…", {K("Ctrl+Shift+,")}, [this] { showSettings(session_, this); });
    c.add("Shot", "Quit", {K("Ctrl+Q")}, [this] { close(); });
    c.add("Help", "Keys and mouse", {K("Ctrl+/")}, [this] { showKeyTable(*commands_, this); });
    c.add("Help", "About Pinion", {}, [this] { showAbout(this); });
}

}  // namespace pinion
