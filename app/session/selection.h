#pragma once

#include "session/document.h"

#include <QObject>

#include <set>
#include <vector>

namespace pinion {

/// The selected tracks. It never holds what is gone from the shot: an undo that takes tracks away takes them out of it.
class Selection : public QObject {
    Q_OBJECT
public:
    explicit Selection(Document& document);

    const std::set<TrackId>& tracks() const { return tracks_; }
    std::vector<TrackId> list() const { return {tracks_.begin(), tracks_.end()}; }
    bool isEmpty() const { return tracks_.empty(); }
    std::size_t size() const { return tracks_.size(); }
    bool contains(TrackId track) const { return tracks_.contains(track); }
    void set(std::set<TrackId> tracks);

    /// The first of them, the one there is when it is the only one; null when there is none.
    const Track* first() const;
    const Track* onlyOne() const { return size() == 1 ? first() : nullptr; }

signals:
    void changed();

private:
    void dropWhatIsGone(std::set<TrackId>& tracks) const;

    Document& document_;
    std::set<TrackId> tracks_;
};

}  // namespace pinion
