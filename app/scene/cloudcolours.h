#pragma once

#include "exchange/pointcolours.h"
#include "session/derived.h"
#include "session/session.h"

#include <QColor>

#include <unordered_map>

namespace pinion {

/// The colour each solved track has on the plate, looked up on a few frames spread over the shot; beside the interface.
class CloudColours {
public:
    CloudColours(Session& session, std::function<void()> changed);
    /// Looks them up for the present solve, unless that is done.
    void want();
    /// Grey while it is not known.
    QColor of(TrackId track) const;

private:
    using Colours = std::unordered_map<TrackId, PointColour>;
    struct Key {
        std::shared_ptr<const Solve> solve;
        const FrameCache* plate = nullptr;
        bool operator==(const Key&) const = default;
    };

    Session& session_;
    Derived<Colours, Key> colours_;
};

}  // namespace pinion
