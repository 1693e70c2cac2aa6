#pragma once

// The real window, driven by the interface tests.

#include <catch2/catch.hpp>

#include "base/files.h"
#include "base/units.h"
#include "stages/camera/errorhistogram.h"
#include "madevideo.h"
#include "mainwindow.h"
#include "stages/camera/camerastage.h"
#include "stages/delivery/deliverystage.h"
#include "stages/plate/platestage.h"
#include "stages/steady/steadystage.h"
#include "stages/tracks/placetool.h"
#include "stages/tracks/trackjobs.h"
#include "stages/tracks/tracksstage.h"
#include "scratch.h"
#include "widgets/theme.h"

#include <QApplication>
#include <QClipboard>
#include <QCheckBox>
#include <QCloseEvent>
#include <QComboBox>
#include <QDropEvent>
#include <QLabel>
#include <QLineEdit>
#include <QLockFile>
#include <QListWidget>
#include <QMimeData>
#include <QMouseEvent>
#include <QPushButton>
#include <QSpinBox>
#include <QStandardPaths>
#include <QTableWidget>
#include <QTest>
#include <QTextBrowser>
#include <QUrl>
#include <QWheelEvent>
#include <csignal>
#include <random>
#include <sys/wait.h>
#include <unistd.h>

using namespace pinion;
using Eigen::Vector2d;

inline const std::string kPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4";

/// A shown, active window; closed without questions at the end.
struct Fixture {
    MainWindow window;
    Session& session = window.session();
    Canvas& canvas = window.canvas();
    PlateStage& plate = window.stage<PlateStage>();
    TracksStage& tracks = window.stage<TracksStage>();
    CameraStage& camera = window.stage<CameraStage>();
    SteadyStage& steady = window.stage<SteadyStage>();
    DeliveryStage& delivery = window.stage<DeliveryStage>();

    Fixture() {
        window.resize(1280, 800);
        window.show();
        REQUIRE(QTest::qWaitForWindowExposed(&window));
        QApplication::setActiveWindow(&window);
        canvas.setFocus();
    }
    ~Fixture() {
        session.jobs.stop();
        wait();
        window.setProperty("closing", true);
        window.close();
    }
    void wait(int longest = 90000) {
        QTest::qWait(60);
        for (int waited = 0; waited < longest && (session.isBusy() || session.ties.isTracking()); waited += 20)
            QTest::qWait(20);
        REQUIRE_FALSE(session.isBusy());
        QTest::qWait(120);
    }
    /// Until the picture of the frame is on the canvas.
    void waitForPicture() {
        REQUIRE(QTest::qWaitFor([&] { return canvas.imageFrame() == session.player.frame(); }, 30000));
    }
    StageState state(const QString& stage) { return window.docket().card(stage)->report().state; }
    void openPlate(const std::string& path = kPlate) {
        session.open(path);
        wait();
        REQUIRE(session.hasPlate());
        waitForPicture();
    }
    QPoint screen(double x, double y) { return canvas.view().screenFromPlate({x, y})->toPoint(); }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) {
        QTest::keyClick(&canvas, k, m);
        QTest::qWait(20);
    }
    QPushButton* button(const char* name) {
        auto* found = window.findChild<QPushButton*>(name);
        REQUIRE(found);
        return found;
    }
    /// Colour of the window's picture at a place of the plate.
    QColor seen(double x, double y) { return canvas.grab().toImage().pixelColor(screen(x, y)); }
};
