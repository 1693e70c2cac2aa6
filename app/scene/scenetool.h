#pragma once

#include "shot/shot.h"
#include "world/eye.h"

#include <QMatrix4x4>
#include <QPointF>
#include <QSize>
#include <Qt>

#include <Eigen/Core>
#include <optional>
#include <vector>

class QPainter;

namespace pinion {

/// How the world lies in the 3D view.
class SceneSight {
public:
    SceneSight(const QMatrix4x4& clipFromWorld, const QSize& screen);
    /// None behind the eye.
    std::optional<QPointF> screenFromWorld(const Eigen::Vector3d& world) const;
    /// From the near side of what is shown.
    WorldRay rayThrough(const QPointF& screen) const;

private:
    QMatrix4x4 clipFromWorld_;
    Eigen::Matrix4d worldFromClip_;
    QSize screen_;
};

struct SceneEvent {
    SceneSight sight;
    QPointF at;
    Qt::KeyboardModifiers modifiers;
    bool isOnPoint = false;  ///< a point of the cloud lies under it
};

/// What a stage does with the left button in the 3D view, where it takes it; and what it draws there.
class SceneTool {
public:
    virtual ~SceneTool() = default;
    /// Whether the press is its own; the drag and the release then are as well.
    virtual bool press(const SceneEvent& event) = 0;
    virtual void drag(const SceneEvent& event) = 0;
    virtual void release() = 0;
    virtual void paint(QPainter& painter, const SceneSight& sight) const = 0;
    /// The shot while something is dragged; none: as it is.
    virtual std::optional<Shot> draft() const = 0;
    /// What is seen when the selection is framed; empty: nothing of its own.
    virtual std::vector<Eigen::Vector3d> held() const = 0;
};

}  // namespace pinion
