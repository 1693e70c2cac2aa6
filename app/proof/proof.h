#pragma once

#include "session/livework.h"
#include "session/session.h"

#include <QImage>
#include <QWidget>

#include <functional>
#include <map>
#include <memory>
#include <vector>

class QToolButton;

namespace pinion {

/// Something else than the selected track that can be proved: cut upright on each frame, it stands still if it sticks.
struct ProofSubject {
    QString name;
    quint64 version = 0;  ///< another one: patches cut before are old
    int referenceFrame = 0;
    std::vector<int> frames;  ///< worth a look, beside the one that is shown
    std::function<bool(int frame)> isThere;
    /// Of the given size; in a thread of the live lane.
    std::function<QImage(const Picture& picture, int frame, const QSize& size, const ViewTransform& view)> cut;
    double widthOverHeight = 1;
    std::function<double(int frame)> badness;  ///< 0 to 1
    std::function<QString(int frame)> words;
};

/// The selected track's patch on chosen frames, held still in the track's own motion: a drift shows as a picture that
/// walks. A click goes to the frame, a drag corrects it (a tie), the difference to the reference shows what has
/// changed.
class ProofStrip : public QWidget {
    Q_OBJECT
public:
    explicit ProofStrip(Session& session, QWidget* parent = nullptr);

    /// The frames shown for the present track: here, the reference, even steps along it and the two worst.
    std::vector<int> frames() const { return order_; }
    /// Where the patch of the nth of them lies.
    QRect cellRect(std::size_t index) const;
    /// In place of the selected track; null: the track again.
    void setSubject(std::shared_ptr<const ProofSubject> subject);
    bool differenceShown() const { return difference_; }
    void setDifference(bool shown);

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

private:
    struct Patch {
        QImage image;        ///< null when the frame cannot be read
        Eigen::Vector2d at;  ///< where the track was when it was cut
    };
    const Track* track() const;
    void refreshSubject();
    void requestSubject();
    void paintSubject(QPainter& painter);
    std::vector<int> framesOf(const Track& track) const;
    void refresh();
    void request();
    void paintPatch(QPainter& painter, const Track& track, std::size_t index) const;
    void paintCaption(QPainter& painter, const Track& track, std::size_t index) const;
    QImage differenceOf(const QImage& patch) const;
    QImage differenceTo(const QImage& other, const QImage& patch) const;
    double marginPlate(const Track& track) const { return track.pattern_px * 1.1; }

    Session& session_;
    std::shared_ptr<const ProofSubject> subject_;
    TrackId shown_ = 0;
    std::vector<int> order_;
    std::map<int, Patch> patches_;
    LiveWork work_;
    QTimer settle_;
    QToolButton* differenceButton_;
    bool difference_ = false;
    int draggedCell_ = -1;
    QPointF dragFrom_;
    Eigen::Vector2d draggedBy_{0, 0};  ///< of the picture, in pixels of the plate
};

}  // namespace pinion
