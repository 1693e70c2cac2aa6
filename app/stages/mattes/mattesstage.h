#pragma once

#include "stages/mattes/mattehand.h"
#include "stages/mattes/proposals.h"
#include "stages/stage.h"

#include <functional>

namespace pinion {

class EditShapeTool;
class MatteStrip;
class ShapeTool;
class StillSight;

/// Drawn areas that move: what is taken out of the analysis, and what is handed on as mattes.
class MattesStage : public Stage {
    Q_OBJECT
public:
    explicit MattesStage(Session& session);
    ~MattesStage() override;
    QString id() const override { return "mattes"; }
    QString title() const override { return "Mattes"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    bool take(Errand errand) override;
    void enter() override;
    void leave() override;

    MatteHand hand;
    Proposals proposals;

    // What the card's buttons do; each says why when it cannot.
    void takeTool(const QString& tool);
    void ride(const Ride& on, const QString& words);
    void part();
    void bake();
    void goToKey(int direction);
    /// The canvas stands still on the ride; on what the held shape rides on, the selected tracks or all of the picture
    /// when none is given. Once more lets it go.
    void toggleStill();
    void standStill(const Ride& ride, const QString& on);
    bool isStill() const;
    void look(const QString& view);
    QString looked() const;
    void copyShapes(bool all);
    void pasteShapes();
    void setCoveredAside();
    /// Shapes from a file, or pictures.
    void bringIn(const QString& path);
    /// Lists the mattes for delivery, in one of the formats of their kind.
    void handOn(int format);
    /// The plate with the mattes as its alpha: EXR and TIFF multiplied, PNG straight.
    void renderAlpha(const std::string& pattern);

    /// How many tracks lie in the mattes and are not set aside there, and on how many frames of theirs; counted beside
    /// the interface.
    struct Covered {
        std::size_t tracks = 0, frames = 0;
    };
    Covered covered() const { return covered_.value() ? *covered_.value() : Covered{}; }

signals:
    void viewChanged();

private:
    struct CoveredKey {
        List<Matte> mattes;
        List<Track> tracks;
        bool operator==(const CoveredKey& other) const {
            return mattes.sharedWith(other.mattes) && tracks.sharedWith(other.tracks);
        }
    };
    void addTools(const Desk& desk);
    void addShapeCommands(const Desk& desk);
    void addKeyCommands(const Desk& desk);
    void addRideCommands(const Desk& desk);
    void addViewCommands(const Desk& desk);
    /// The held shape rides on `on` from `frame`; what takes long is worked out as a job first.
    void join(const Ride& on, int frame, const QString& words);
    void addShapes(const std::vector<Matte>& shapes);
    void refreshCovered();
    QString whyNoShape() const;
    void endStill();

    EditShapeTool* edit_ = nullptr;  ///< the canvas owns these
    MatteStrip* strip_ = nullptr;
    StillSight* still_ = nullptr;
    Derived<Covered, CoveredKey> covered_;
};

}  // namespace pinion
