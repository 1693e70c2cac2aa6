#include "scene/scenebar.h"

#include "widgets/toolbar.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QToolButton>

namespace pinion {

SceneBar::SceneBar(WorldView& view, QWidget* parent) : QWidget(parent) {
    setObjectName("sceneBar");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(4);
    using Look = SceneCamera::Look;
    for (const auto& [name, look] : {std::pair{"Free", Look::free}, std::pair{"Front", Look::front},
                                     std::pair{"Side", Look::side}, std::pair{"Top", Look::top}}) {
        QToolButton* button = barButton(name);
        button->setObjectName(QString("look-") + QString(name).toLower());
        button->setCheckable(true);
        const auto refresh = [button, &view, look = look] { button->setChecked(view.look() == look); };
        connect(button, &QToolButton::clicked, this, [&view, look = look, refresh] {
            view.setLook(look);
            refresh();
        });
        connect(&view, &WorldView::lookChanged, button, refresh);
        refresh();
        row->addWidget(button);
    }
    row->addSpacing(10);
    QToolButton* wire = barButton("Wire");
    wire->setObjectName("sceneWire");
    wire->setCheckable(true);
    wire->setToolTip("The edges alone of what stands in the scene");
    connect(wire, &QToolButton::toggled, this, [&view](bool on) { view.setWire(on); });
    row->addWidget(wire);
    auto* colours = new QComboBox;
    colours->setObjectName("cloudColours");
    colours->setAccessibleName("Coloured by");
    colours->setToolTip("What the points are coloured by");
    colours->addItems({"by error", "as filmed"});
    connect(colours, &QComboBox::activated, this, [&view](int index) { view.setColours(WorldView::Colours(index)); });
    row->addWidget(colours);
}

}  // namespace pinion
