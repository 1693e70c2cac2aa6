#pragma once

#include "jobs/inserting.h"
#include "stages/inserts/inserthand.h"
#include "stages/stage.h"

#include <functional>

namespace pinion {

class InsertsOverlay;
class InsertStrip;

/// Pictures and clips that live in the plate.
class InsertsStage : public Stage {
    Q_OBJECT
public:
    explicit InsertsStage(Session& session);
    QString id() const override { return "inserts"; }
    QString title() const override { return "Inserts"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    void enter() override;
    void leave() override;

    InsertHand hand;

    // What the card's buttons do; each says why when it cannot.
    void takeTool(const QString& tool);
    /// A picture or a clip into the list, and pinned to what is at hand: the selected tracks, else the last plane with
    /// a surface, else the frame.
    void addArt(const std::filesystem::path& path);
    void addPlain(Insert::Shows shows);
    /// A picture of the whole frame, painted on the frame that is shown.
    void addPatch(const std::filesystem::path& path);
    /// Another clip's file, or the same at another place.
    void relink(ClipId clip, const std::filesystem::path& path);
    /// A picture becomes all that are numbered like it, or a sequence its first one.
    void takeSequence(ClipId clip, bool all);
    void pin(const std::optional<Ride>& ride);
    void copyTo(const std::optional<Ride>& ride);
    void fit(Fitting fitting);
    /// What carries it by itself: the selected tracks, the last plane with a surface, or the frame.
    std::optional<Ride> rideAtHand() const;
    void setThere(bool there);
    void setOpacityHere(double opacity);
    void removeOpacityKey();
    void drawInFront();
    void render(const std::filesystem::path& pattern);

private:
    void addTools(const Desk& desk);
    void addCommands(const Desk& desk);
    void match(const Eigen::Vector2d& from, const Eigen::Vector2d& to);
    void pickKey(const Eigen::Vector2d& at);
    /// `make` reads it beside the interface.
    void openClip(const std::function<Expected<Clip>()>& make, const std::function<void(const Clip&)>& done);
    void replace(ClipId clip, const Clip& found);
    /// Does something for which the motion of these rides has to be known: works it out in a job first where that takes
    /// long (of a whole picture's tracks).
    void addInsert(Insert insert, const QString& what, const Shot& shot);
    QString whyNoInsert() const;

    InsertsOverlay* overlay_ = nullptr;  ///< the canvas owns it
    InsertStrip* strip_ = nullptr;       ///< the sheet owns it
};

}  // namespace pinion
