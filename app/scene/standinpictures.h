#pragma once

#include "session/derived.h"
#include "session/session.h"
#include "world/standin.h"

#include <QImage>

#include <map>
#include <vector>

namespace pinion {

/// The pictures on what stands in the scene, for the 3D view: read beside the interface, of a clip its first.
class StandInPictures {
public:
    StandInPictures(Session& session, std::function<void()> changed);
    /// Of the present shot, unless that is done.
    void want();
    /// What it shows itself, or of a mesh the picture of that number, from 1, of its materials. Null while it is not
    /// there.
    QImage of(StandInId standIn, int skin) const;

private:
    using Pictures = std::map<std::pair<StandInId, int>, QImage>;

    Session& session_;
    Derived<Pictures, std::vector<StandIn>> pictures_;
};

}  // namespace pinion
