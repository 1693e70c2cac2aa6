#pragma once

#include "picture/picture.h"
#include "plate/framecache.h"
#include "session/document.h"

#include <QElapsedTimer>
#include <QObject>
#include <QTimer>

#include <map>
#include <memory>

namespace pinion {

/// The plate that is open, the playhead, and the picture under it. Decoding runs in the frame cache's reader thread.
class Player : public QObject {
    Q_OBJECT
public:
    explicit Player(Document& document);
    ~Player() override;

    bool hasPlate() const { return frames_ != nullptr; }
    FrameCache* frames() const { return frames_.get(); }
    std::shared_ptr<FrameCache> sharedFrames() const { return frames_; }
    /// Shows another plate, or none; the playhead goes to the range's first frame.
    void take(const std::shared_ptr<const Plate>& plate);
    /// Bytes that pictures in memory may take.
    void setBudget(std::size_t bytes);

    int frame() const { return frame_; }
    /// The current frame's picture, or the last one shown while it is being read.
    PicturePtr picture() const { return picture_; }
    int pictureFrame() const { return pictureFrame_; }
    /// Why the current frame has no picture; empty while there is no trouble.
    QString frameProblem() const { return frameProblem_; }
    void goTo(int frame);
    void step(int by) { goTo(frame_ + by); }
    bool isPlaying() const { return timer_.isActive(); }
    void setPlaying(bool playing);

    const ViewTransform& view() const { return view_; }
    void setView(const ViewTransform& view);

signals:
    void plateChanged();
    void frameChanged();  ///< the playhead moved or its picture arrived
    void playingChanged();
    void viewChanged();

private:
    void tick();
    void onFrameRead(int frame, const QString& problem);
    void wantAround();
    void refreshPicture();

    Document& document_;
    std::size_t budget_ = FrameCache::kDefaultBudget;
    std::shared_ptr<FrameCache> frames_;
    int frame_ = 0;
    PicturePtr picture_;
    int pictureFrame_ = 0;
    QString frameProblem_;
    ViewTransform view_;
    QTimer timer_;
    QElapsedTimer clock_;
    int shown_ = 0;
    std::map<int, QString> unreadable_;  ///< frames that could not be read, and why
};

}  // namespace pinion
