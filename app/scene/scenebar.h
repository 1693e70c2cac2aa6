#pragma once

#include "scene/worldview.h"

#include <QWidget>

namespace pinion {

/// The choices of the 3D view, for the bar above it: from where it looks, and by what the cloud is coloured.
class SceneBar : public QWidget {
    Q_OBJECT
public:
    explicit SceneBar(WorldView& view, QWidget* parent = nullptr);
};

}  // namespace pinion
