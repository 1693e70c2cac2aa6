#pragma once

#include "stages/stage.h"
#include "stages/world/standinhand.h"
#include "world/world.h"

namespace pinion {

class GroundOverlay;
class StandInOverlay;
class StandScene;
class StandTool;
class SunTool;

/// The world of the solve: ground, origin and scale from tracks; and what stands in it.
class WorldStage : public Stage {
    Q_OBJECT
public:
    explicit WorldStage(Session& session);
    QString id() const override { return "world"; }
    QString title() const override { return "World"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    bool take(Errand errand) override;
    void enter() override;
    bool keyHeld(const QKeySequence& key, bool isDown) override;
    /// The world as it was before it was last set, while a key or a button is held.
    void showBefore(bool on);
    bool hasBefore() const { return before_.has_value(); }
    void leave() override;

    /// An edit, refused in words where the solve cannot meet it.
    void apply(const QString& name, const World& world);
    void setGround();

    /// On the chosen points (on one, between two, on the plane of more), or where the next click says.
    void addStandIn(StandInKind kind);
    /// Of a file, read beside the interface.
    void addMesh(const std::filesystem::path& path);
    /// A card of a still or a clip, read beside the interface; a flat backing is keyed out.
    void addCard(const std::filesystem::path& path);
    void askForCard();
    /// The held one's file, found again or another: of a mesh, or of what shows pictures.
    void replaceFile(const std::filesystem::path& path);
    void askToThrow(bool ontoGround);
    /// A picture that was painted on this frame, thrown on to the held stand-in, or the ground; several that are
    /// numbered by their frames are thrown from each of them.
    void throwPictures(std::vector<std::filesystem::path> paths, bool ontoGround);
    /// What the frames show of the held board, card or grid, as one picture, which it then shows.
    void gatherPicture(const std::filesystem::path& path);
    void copyStandIn();
    void takeSunTool();
    /// The world turned about up by a drag of its ground.
    void takeTurnTool();
    /// What stands in the scene, rendered as the shot says.
    void renderScene(const std::filesystem::path& pattern);
    /// Finds the plate's surface about the held one's foot again over the shot.
    void proveFoot();
    /// What that said, while it is still of the same.
    QString footWords() const;

    StandInHand hand;

signals:
    void proved();

private:
    void furnishStandIns(const Desk& desk);
    void takeStandTool();
    void begin(StandIn made);
    void putThere(const StandIn& made);
    QString whyNoScene() const;

    void watchWorld();
    void showWorld(const std::optional<World>& world);
    std::uint64_t footKey() const;

    World now_;
    std::optional<World> before_;
    bool isBeforeShown_ = false;
    std::filesystem::path plate_;  ///< whose world that is
    QString footWords_;
    std::uint64_t footKey_ = 0;  ///< what `footWords_` is of
    // The canvas and the 3D view own them.
    GroundOverlay* ground_ = nullptr;
    StandInOverlay* overlay_ = nullptr;
    StandTool* tool_ = nullptr;
    StandScene* inScene_ = nullptr;  ///< null where there is no 3D view
    SunTool* sun_ = nullptr;
};

}  // namespace pinion
