#pragma once

#include "session/derived.h"
#include "session/session.h"
#include "shot/carriers/carriers.h"
#include "shot/stages/mattesstage.h"

#include <QObject>

#include <functional>
#include <optional>
#include <set>

namespace pinion {

/// What the shape tools hold: one shape of the shot, and points of it; and where shapes lie on the frame that is shown.
class MatteHand : public QObject {
    Q_OBJECT
public:
    explicit MatteHand(Session& session);

    /// Its place in the list; none while none is held.
    std::optional<std::size_t> matte() const;
    const Matte* held() const;
    void hold(std::optional<std::size_t> matte);
    const std::set<std::size_t>& points() const { return points_; }
    void setPoints(std::set<std::size_t> points);

    /// A shape of the list on the plate of the frame that is shown; none while what it rides on is being worked out.
    std::optional<Matte::Key> shapeOf(std::size_t matte) const;
    /// Null while it is being worked out.
    std::shared_ptr<const Carrier> carrierOf(const Ride& ride) const;

    /// Whether the held shape may be changed; says why not.
    bool mayEdit();
    /// What the held shape looks like on this frame becomes a keyframe.
    void setShape(const QString& edit, const Matte::Key& onPlate, bool amends = false);
    /// A new shape as it lies on the plate here, riding on what the canvas is held on. Refused with the reason when it
    /// is none.
    bool add(Matte::Key onPlate, const std::string& name);

    /// Works out, beside the interface, what takes long of the rides there are.
    void refreshMotions();

    /// What new shapes ride on.
    std::function<std::optional<Ride>()> rideOfNew = [] { return std::nullopt; };

signals:
    void changed();         ///< what is held
    void motionsChanged();  ///< what something rides on was worked out

private:
    void refresh();

    Session& session_;
    std::optional<std::size_t> matte_;
    std::set<std::size_t> points_;
    Derived<bool, std::uint64_t> carriers_;  ///< those that take time were worked out; they are kept elsewhere
};

}  // namespace pinion
