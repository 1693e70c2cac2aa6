#pragma once

#include "session/derived.h"
#include "session/session.h"
#include "track/candidates.h"

#include <QObject>

#include <vector>

namespace pinion {

/// The features that a scatter would start from, on the frame that is shown; found beside the interface, anew whenever
/// the frame or the settings change.
class Candidates : public QObject {
    Q_OBJECT
public:
    explicit Candidates(Session& session);
    void show(bool shown);
    bool areShown() const { return shown_; }
    const std::vector<Candidate>& found() const;

signals:
    void changed();

private:
    struct Key {
        int frame = 0;
        ScatterSettings settings;
        List<Matte> mattes;
        bool operator==(const Key& other) const;
    };
    void refresh();

    Session& session_;
    bool shown_ = false;
    Derived<std::vector<Candidate>, Key> found_;
};

}  // namespace pinion
