#pragma once

#include "session/livework.h"
#include "session/session.h"

#include <QObject>
#include <QTimer>

#include <cstdint>
#include <filesystem>
#include <map>
#include <vector>

namespace pinion {

/// What the files of the shot's clips are: looked at beside the interface, when the clips change and every two seconds
/// while nothing plays. What is told is as it was when they were looked at last.
class ClipFiles : public QObject {
    Q_OBJECT
public:
    explicit ClipFiles(Session& session);
    bool isMissing(const Clip& clip) const;
    /// How many pictures are numbered like a still; 0 before it was looked at.
    int numberedLike(const Clip& clip) const;
    /// Of all files of all clips: replaced, they make another picture.
    std::uint64_t version() const { return version_; }
    void look();

signals:
    void changed();

private:
    struct File {
        bool missing = false;
        int numbered = 0;
        std::uint64_t stamp = 0;
        bool operator==(const File&) const = default;
    };
    using Files = std::map<std::filesystem::path, File>;
    static Files lookedAt(const std::vector<Clip>& clips);
    void take(Files files);

    Session& session_;
    List<Clip> clips_;  ///< that are looked at
    LiveWork work_;
    QTimer again_;
    Files files_;
    std::uint64_t version_ = 0;
};

}  // namespace pinion
