#pragma once

#include "session/session.h"
#include "shot/stages/report.h"

#include <QKeySequence>
#include <QString>
#include <QWidget>

#include <functional>
#include <optional>

namespace pinion {

class Canvas;
class Commands;
class CurvesPanel;
class ProofStrip;
class ThreadSheet;
class ToolBar;
class WorldView;

/// What one stage asks for and another does, whichever that is.
enum class Errand {
    showShapes,  ///< mattes, to look at and change
    drawShape,   ///< a new one, round what passes in front
    steady,      ///< the picture held still
    layGround,   ///< under the solved scene
    handOn       ///< what can be delivered
};

/// What a stage furnishes: the parts of the window.
struct Desk {
    Commands& commands;
    ToolBar& tools;
    Canvas& canvas;
    ThreadSheet& sheet;
    CurvesPanel& curves;
    ProofStrip& proof;
    WorldView* scene;  ///< null where there is no OpenGL
    std::function<void(const QString& stage)> openCard;
    /// "plate", the name of a sight, or "3d".
    std::function<void(const QString& view)> show;
    std::function<QString()> shown;
    /// Has an errand done by the stage that does such.
    std::function<void(Errand)> ask;
};

/// One stage of the shot, whole: its card, its tools, overlays and commands, its jobs, and what it works out for
/// itself. The window walks over the stages; it knows none of them by name. A new stage is a folder beside this file
/// and a line in stages.cpp.
class Stage : public QObject {
    Q_OBJECT
public:
    explicit Stage(Session& session) : session_(session) {}
    virtual QString id() const = 0;     ///< "tracks"
    virtual QString title() const = 0;  ///< of the card
    /// What the docket says of it; from the shot, every time.
    virtual StageReport report() const = 0;
    /// The settings inside the card.
    virtual QWidget* makeCard() = 0;
    /// Gives it the parts of the window, to which it adds its own.
    void furnishWith(const Desk& desk) {
        desk_.emplace(desk);
        furnish(desk);
    }
    /// Does an errand that another stage asks for, if that is its work.
    virtual bool take(Errand) { return false; }
    /// Its tools stand in the bar whichever card is open.
    virtual bool toolsStay() const { return false; }
    /// Its card is opened.
    virtual void enter() {}
    /// Another card is opened: what only this one showed goes.
    virtual void leave() {}
    /// Escape: what it has offered goes.
    virtual void escape() {}
    /// A key goes down, or any is let go: whether it means something here while it is held.
    virtual bool keyHeld(const QKeySequence&, bool /*isDown*/) { return false; }

signals:
    /// What the docket says of it is another thing, though the shot is the same.
    void reportChanged();

protected:
    /// Adds tools, overlays, sights, commands.
    virtual void furnish(const Desk&) {}

    // The window, once it is furnished.
    const Desk& desk() const { return *desk_; }
    bool isFurnished() const { return desk_.has_value(); }
    void openOwnCard() { desk_->openCard(id()); }
    void show(const QString& view) { desk_->show(view); }
    /// "plate" before there is a window.
    QString shown() const { return desk_ ? desk_->shown() : QString("plate"); }
    /// Takes a tool in hand, for the keyboard too.
    void takeInHand(const QString& tool);
    /// The sheet's strips and the canvas are drawn anew.
    void redraw();

    Session& session_;

private:
    std::optional<Desk> desk_;
};

}  // namespace pinion
