#pragma once

#include "jobs/diagnosing.h"
#include "session/derived.h"
#include "session/session.h"

#include <QObject>

#include <optional>
#include <utility>
#include <vector>

namespace pinion {

/// Looks at the solve while somebody wants to see: errors, suspects, and what it would be without those that are held.
class SolveLooker : public QObject {
    Q_OBJECT
public:
    explicit SolveLooker(Session& session);

    /// How errors are drawn on the plate.
    enum class Arrows { none, frame, gathered };
    Arrows arrows() const { return arrows_; }
    void showArrows(Arrows arrows);

    /// While the card is open.
    void setOpen(bool open);
    bool isOpen() const { return open_; }

    /// Null while there is none of the present solve.
    const SolveLook* look() const;
    bool isLooking() const { return look_.isPending(); }
    std::vector<TrackId> suspects(SuspectReason reason) const;

    /// One reason's tracks are held: chosen in all views, and tried what the solve would be without them.
    void hold(std::optional<SuspectReason> reason);
    std::optional<SuspectReason> held() const { return held_; }
    const Without* without() const;
    bool isTrying() const { return without_.isPending(); }
    QString whyNotWithout() const { return without_.problem(); }

signals:
    void changed();

private:
    using WithoutKey = std::pair<std::uint64_t, int>;

    void want();

    Session& session_;
    Arrows arrows_ = Arrows::none;
    bool open_ = false;
    std::optional<SuspectReason> held_;
    Derived<SolveLook, std::uint64_t> look_;
    Derived<Without, WithoutKey> without_;
};

}  // namespace pinion
