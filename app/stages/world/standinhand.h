#pragma once

#include "session/derived.h"
#include "session/session.h"
#include "shot/layers/layers.h"
#include "world/eye.h"

#include <QObject>

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>

namespace pinion {

struct CardPictures;

/// What the tools and views of stand-ins hold: one of them, or how it is while it is dragged; and the layers that show
/// them. It never holds what is gone from the shot.
class StandInHand : public QObject {
    Q_OBJECT
public:
    explicit StandInHand(Session& session);

    /// Null when none is held.
    const StandIn* held() const;
    std::optional<StandInId> standIn() const { return held_; }
    void hold(std::optional<StandInId> standIn);
    /// Whether the held one may be changed; says why not.
    bool mayEdit();
    void edit(const QString& what, const std::function<void(StandIn&)>& change);

    /// Where the held one stands while it is dragged; none: as the shot has it.
    void setDraft(const std::optional<Stance>& stance);
    /// The drag is over: the edit that it makes, "Move box"; it falls back where that is where it was.
    void drop(const QString& verb);
    bool isDragged() const { return draft_.has_value(); }
    std::optional<Stance> stanceNow() const;
    /// Where it stands now, in words.
    QString numbers() const;

    /// The camera on the frame that is shown, in the oriented world; none where it is not solved.
    std::optional<WorldEye> eye() const;
    /// The height of the ground: the scene's, or 1.6 below a camera that only turns and for which nobody set one.
    double floor() const;
    bool floorIsAssumed() const;
    /// What stands in the scene, as it is dragged.
    SceneLook lookNow() const;

    /// The layers that show the stand-ins, as they are dragged; null until they are worked out.
    std::shared_ptr<const InsertScene> sceneNow() const;
    std::shared_ptr<const InsertScene> scene() const { return scene_.value(); }
    /// Fewer rays, while it has to be quick.
    bool isQuick() const { return isDragged() || session_.player.isPlaying(); }
    const std::shared_ptr<ArtShelf>& shelf() const { return shelf_; }
    /// For clicks on what stands in the scene.
    CardPictures cardPictures() const;

signals:
    void changed();       ///< another one is held
    void moved();         ///< it is dragged
    void sceneChanged();  ///< what they look like

private:
    void refresh();
    /// The shot with the layers of stand-ins alone.
    Shot layersAlone() const;

    Session& session_;
    std::optional<StandInId> held_;
    std::optional<Stance> draft_;
    std::shared_ptr<ArtShelf> shelf_ = std::make_shared<ArtShelf>();
    Derived<InsertScene, std::uint64_t> scene_;
    // What is shown, and what it was made of.
    mutable std::shared_ptr<const InsertScene> shown_;
    mutable std::shared_ptr<const InsertScene> shownOf_;
    mutable std::optional<Stance> shownWith_;
    mutable int shownSamples_ = 0;
};

}  // namespace pinion
