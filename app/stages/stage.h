#pragma once

#include "session/session.h"
#include "shot/stages/report.h"

#include <QString>
#include <QWidget>

#include <functional>

namespace pinion {

class Canvas;
class Commands;
class CurvesPanel;
class ProofStrip;
class ThreadSheet;
class ToolBar;
class WorldView;

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
    /// Adds tools, overlays, sights, commands.
    virtual void furnish(const Desk&) {}
    /// Its tools stand in the bar whichever card is open.
    virtual bool toolsStay() const { return false; }
    /// Its card is opened.
    virtual void enter() {}
    /// Another card is opened: what only this one showed goes.
    virtual void leave() {}
    /// Escape: what it has offered goes.
    virtual void escape() {}

protected:
    Session& session_;
};

}  // namespace pinion
