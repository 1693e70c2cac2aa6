#pragma once

#include "session/derived.h"
#include "session/session.h"
#include "shot/layers/layers.h"
#include "stages/inserts/clipfiles.h"

#include <QObject>

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>

namespace pinion {

/// All that the inserts of a shot are made from: a new version of any of it is another scene.
struct SceneKey {
    std::uint64_t shot = 0;   ///< of all that the shot says of them
    std::uint64_t files = 0;  ///< what the clips' files are: replaced, they make another picture

    bool operator==(const SceneKey&) const = default;
};

/// What the tools and views of inserts hold: one insert, or how it is while it is dragged; what all of them are made
/// from, worked out beside the interface; the clips. It never holds what is gone from the shot.
class InsertHand : public QObject {
    Q_OBJECT
public:
    explicit InsertHand(Session& session);

    /// Null when none is held.
    const Insert* held() const;
    std::optional<InsertId> insert() const { return held_; }
    void hold(std::optional<InsertId> insert);
    /// Whether the held insert may be changed; says why not.
    bool mayEdit();
    void edit(const QString& what, const std::function<void(Insert&)>& change);

    /// The held insert as it is dragged; none: as the shot has it.
    void setDraft(const std::optional<Placing>& placing);
    /// The drag is over: where it has brought the insert; none, and it falls back, where that is where it was.
    std::optional<Placing> endDrag();
    bool isDragged() const { return draft_.has_value(); }
    std::optional<Placing> placingNow() const;

    /// Null until it has been worked out.
    const std::shared_ptr<const InsertScene>& scene() const { return scene_.value(); }
    /// The same without the inserts that move.
    std::shared_ptr<const InsertScene> sceneBelow() const;
    /// Those that move at this moment, the lowest first: the one that is dragged, and what hangs on a plane that is
    /// being tracked or dragged.
    std::vector<const InsertScene::One*> moving() const;
    bool isMoving() const { return isDragged() || !live_.empty(); }
    /// Where an insert's art lies on the frame that is shown.
    std::vector<ArtPiece> piecesNow(const Insert& insert) const;
    /// What of the scene is an insert's; null while it is not there.
    const InsertScene::One* partOf(InsertId insert) const;
    /// The held one where it is art on a surface; null for a layer of another kind.
    const InsertScene::One* heldArt() const;
    /// Where an insert's own corners are on the frame that is shown.
    std::optional<Quad> cornersNow(const Insert& insert) const;
    /// Its sides there; curves where it is bent.
    Polygon outlineNow(const Insert& insert) const;

    const std::shared_ptr<ArtShelf>& shelf() const { return shelf_; }

    ClipFiles files;

signals:
    void changed();       ///< another insert is held
    void moved();         ///< inserts move, or no more: as often as the mouse does, or a track goes on by a frame
    void sceneChanged();  ///< what inserts look like

private:
    void refresh();
    void wantScene();
    SceneKey keyOf(const Shot& shot) const;
    /// As it is dragged.
    Placing placingOf(const Insert& insert) const { return held_ == insert.id && draft_ ? *draft_ : insert.placing; }
    /// What carries it at this moment; null until that has been worked out.
    std::shared_ptr<const InsertSurface> surfaceNow(const Insert& insert) const;
    void followPlanes();
    void setLive(std::map<PlaneId, PlanarTrack> live);

    Session& session_;
    std::optional<InsertId> held_;
    std::optional<Placing> draft_;
    std::shared_ptr<ArtShelf> shelf_ = std::make_shared<ArtShelf>();
    Derived<InsertScene, SceneKey> scene_;
    mutable std::shared_ptr<const InsertScene> below_;
    mutable std::shared_ptr<const InsertScene> belowOf_;
    mutable std::vector<InsertId> belowWithout_;
    /// Planes that move; they stay until what they have become is worked out.
    std::map<PlaneId, PlanarTrack> live_;
    std::map<InsertId, std::shared_ptr<const InsertSurface>> liveSurfaces_;
};

}  // namespace pinion
