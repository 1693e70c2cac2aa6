#include "stages/world/scenerenderform.h"

#include "jobs/delivering.h"
#include "stages/shotform.h"
#include "stages/world/worldstage.h"

#include <QComboBox>
#include <QGridLayout>
#include <QLineEdit>

#include <algorithm>

namespace pinion {
namespace {

QString renderPlace(const Shot& shot) {
    const SceneWriting& writing = shot.sceneWriting;
    if (!writing.place.empty()) return text(writing.place.string());
    return text(shot.name) + (writing.isAlone()                       ? ".scene.####.exr"
                              : writing.manner == SceneManner::review ? ".review.mp4"
                                                                      : ".scene.mp4");
}

class SceneRenderForm : public ShotForm {
public:
    SceneRenderForm(Session& session, WorldStage& stage) : ShotForm(session), stage_(stage) {
        addRender();
        refresh();
    }

private:
    /// The stand-ins by themselves, over the plate or alone: the Inserts card renders them with all other layers.
    void addRender() {
        auto* title = dimLabel("Render");
        wide(title);
        auto* manner = named(new QComboBox, "sceneManner");
        manner->addItems({"Over plate", "Review", "Alone", "Undistorted"});
        manner->setToolTip(
            "Over the plate; over it with name, frame and error burnt in; alone with alpha; alone as a "
            "lens without distortion sees it, with its overscan");
        auto* mannerLabel = row("What", manner);
        auto* shutter = named(decimal(0, 1, 2, 0.1), "sceneShutter", "Frames over which motion blurs: 0.5 is 180°");
        auto* shutterLabel = row("Shutter", shutter);
        bind(
            shutter, "Shutter of the scene", [](auto& shot) -> auto& { return shot.sceneWriting.shutter; });
        connect(manner, &QComboBox::activated, this, [this](int index) {
            change("What is rendered of the scene", [&](Shot& shot) {
                shot.sceneWriting.manner = SceneManner(index);
                shot.sceneWriting.place.clear();
            });
        });
        std::vector<QCheckBox*> passes;
        auto* passRow = new QWidget;
        auto* grid = new QGridLayout(passRow);
        grid->setContentsMargins(0, 0, 0, 0);
        for (std::size_t i = 0; i < kScenePasses.size(); ++i) {
            const QString word = kScenePasses[i];
            auto* box = named(new QCheckBox(word.left(1).toUpper() + word.mid(1)), ("scenePass-" + word).toUtf8(),
                              "As a layer of the EXR");
            grid->addWidget(box, int(i / 3), int(i % 3));
            passes.push_back(box);
            connect(box, &QCheckBox::clicked, this, [this, i](bool on) {
                change("Passes of the scene", [&](Shot& shot) {
                    std::erase(shot.sceneWriting.passes, ScenePass(i));
                    if (on) shot.sceneWriting.passes.push_back(ScenePass(i));
                });
            });
        }
        wide(passRow);
        auto* place = named(new QLineEdit, "scenePlace",
                            "A sequence (name.####.exr, .png, .tif) or a video (name.mp4), below the delivery folder");
        place->setAccessibleName("Render the scene to");
        wide(place);
        auto* render =
            named(button("Render scene", "quiet"), "sceneRender", "A sequence that was stopped goes on where it ended");
        auto* renderRow = buttonRow({render});
        wide(renderRow);
        connect(place, &QLineEdit::editingFinished, this, [this, place] {
            const QString to = place->text().trimmed();
            if (!to.isEmpty() && to != renderPlace(session_.shot()))
                change("Change where the scene is rendered to",
                       [&](Shot& shot) { shot.sceneWriting.place = to.toStdString(); });
        });
        onClick(render, [this, place] {
            const auto to =
                deliveryFolderOf(session_.shot(), session_.document.file()) / place->text().trimmed().toStdString();
            session_.writeTo({to}, [this, to] { stage_.renderScene(to); });
        });
        onRefresh([this, manner, passes, place, render] {
            const SceneWriting& writing = session_.shot().sceneWriting;
            manner->setCurrentIndex(int(writing.manner));
            for (std::size_t i = 0; i < passes.size(); ++i)
                passes[i]->setChecked(std::find(writing.passes.begin(), writing.passes.end(), ScenePass(i)) !=
                                      writing.passes.end());
            if (!place->hasFocus()) place->setText(renderPlace(session_.shot()));
            render->setEnabled(session_.isReady() && session_.shot().solve);
        });
        showIf({title, manner, mannerLabel, shutter, shutterLabel, place, renderRow},
               [](const Shot& shot) { return !shot.scene.standIns.isEmpty(); });
        showIf({passRow},
               [](const Shot& shot) { return !shot.scene.standIns.isEmpty() && shot.sceneWriting.isAlone(); });
    }

    WorldStage& stage_;
};

}  // namespace

QWidget* makeSceneRenderForm(Session& session, WorldStage& stage) { return new SceneRenderForm(session, stage); }

}  // namespace pinion
