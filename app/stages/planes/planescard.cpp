#include "stages/planes/planescard.h"

#include "base/files.h"
#include "jobs/delivering.h"
#include "jobs/places.h"
#include "shot/edits/planeedits.h"
#include "shot/stages/planesstage.h"
#include "stages/planes/planesstage.h"
#include "stages/shotform.h"
#include "widgets/filedialogs.h"

#include <QListWidget>
#include <QTimer>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

class PlanesCard : public ShotForm {
public:
    PlanesCard(Session& session, PlanesStage& stage) : ShotForm(session), stage_(stage), hand_(stage.hand) {
        addList();
        addTracking();
        addSurface();
        addLooks();
        addHandingOn();
        connect(&hand_, &PlaneHand::changed, this, [this] { refresh(); });
        connect(&stage, &PlanesStage::viewChanged, this, [this] { refresh(); });
        refresh();
    }

private:
    QLabel* words(const char* name) {
        auto* label = named(dimLabel(""), name);
        wide(label);
        return label;
    }
    void showWhileHeld(std::initializer_list<QWidget*> parts) {
        onRefresh([this, parts = std::vector<QWidget*>(parts)] {
            for (QWidget* part : parts) part->setVisible(hand_.held() != nullptr);
        });
    }
    void editHeld(const QString& edit, const std::function<void(PlanarTrack&)>& change) {
        if (hand_.held()) session_.edit(edit, withPlaneEdited(session_.shot(), *hand_.plane(), change));
    }

    void addList() {
        auto* list = named(new QListWidget, "planeList", "Tick: drawn. Double click: another name");
        list->setAccessibleName("Planes");
        list->setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed);
        wide(list);
        auto* start = words("planeStart");
        start->setText(
            "No planes yet. Go to the frame on which the surface is largest and least slanted, often in the middle of "
            "the shot, and draw round its texture (P): a drag makes a rectangle. It need not be exact.");
        connect(list, &QListWidget::currentRowChanged, this, [this](int row) {
            const auto& planes = session_.shot().planes;
            if (!filling_ && row >= 0 && std::size_t(row) < planes.size()) hand_.hold(planes[std::size_t(row)].id);
        });
        connect(list, &QListWidget::itemChanged, this, [this, list](QListWidgetItem* item) {
            const auto& planes = session_.shot().planes;
            const auto row = std::size_t(list->row(item));
            if (filling_ || row >= planes.size()) return;
            const PlaneId id = planes[row].id;
            const bool hidden = item->checkState() == Qt::Unchecked;
            const QString name = item->text().trimmed();
            // After the signal: the edit fills this list anew.
            QTimer::singleShot(0, this, [this, id, hidden, name] {
                const PlanarTrack* plane = findPlane(session_.shot(), id);
                if (!plane) return;
                if (plane->hidden != hidden)
                    session_.edit((hidden ? "Hide " : "Show ") + text(plane->name),
                                  withPlaneEdited(session_.shot(), id, [&](PlanarTrack& one) { one.hidden = hidden; }));
                else if (!name.isEmpty() && name != text(plane->name))
                    session_.edit("Rename a plane", withPlaneRenamed(session_.shot(), id, name.toStdString()));
                refresh();
            });
        });
        onRefresh([this, list, start] {
            filling_ = true;
            const auto& planes = session_.shot().planes;
            while (list->count() > int(planes.size())) delete list->takeItem(list->count() - 1);
            while (list->count() < int(planes.size())) {
                auto* item = new QListWidgetItem(list);
                item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsEditable | Qt::ItemIsUserCheckable);
            }
            for (int i = 0; i < list->count(); ++i) {
                const PlanarTrack& plane = planes[std::size_t(i)];
                list->item(i)->setText(text(plane.name));
                list->item(i)->setCheckState(plane.hidden ? Qt::Unchecked : Qt::Checked);
                QFont face = font();
                face.setItalic(plane.locked);
                list->item(i)->setFont(face);
                if (hand_.plane() == plane.id) list->setCurrentRow(i);
            }
            list->setFixedHeight(std::clamp(list->count(), 1, 5) * std::max(22, list->sizeHintForRow(0)) + 6);
            list->setVisible(!planes.isEmpty());
            start->setVisible(planes.isEmpty());
            filling_ = false;
        });
    }

    void addTracking() {
        auto* shape = named(choice({"flat", "cylinder"}), "planeShape",
                            "A cylinder, a mast or a bottle, is told by its two contours on the reference frame; it is "
                            "followed with its turn");
        auto* shapeLabel = row("Shape", shape);
        connect(shape, &QComboBox::activated, this, [this](int index) {
            if (index == 0) stage_.makeFlat();
            else stage_.takeTool("cylinder sides");
            refresh();
        });
        auto* motion = named(choice({"find out", "translation", "similarity", "affine", "perspective"}), "planeMotion",
                             "How it may move. Found out, it is the most that its texture supports");
        auto* motionLabel = row("Motion", motion);
        connect(motion, &QComboBox::activated, this, [this](int index) {
            editHeld("Motion of a plane", [&](PlanarTrack& plane) {
                plane.motion = index == 0 ? std::nullopt : std::optional(MotionModel(index - 1));
            });
        });
        auto* least = named(spin(2, 95, " %"), "planeLeastSeen",
                            "It goes on while a part is covered or out of the frame, and ends when less of its texture "
                            "is seen than this");
        auto* leastLabel = row("Least seen", least);
        connect(least, &QSpinBox::valueChanged, this, [this](int value) {
            editHeld("Least share of a plane", [&](PlanarTrack& plane) { plane.leastSeen = value / 100.0; });
        });
        auto* locked = named(new QCheckBox("Locked"), "planeLocked");
        connect(locked, &QCheckBox::clicked, this, [this](bool on) {
            editHeld(on ? "Lock a plane" : "Unlock a plane", [&](PlanarTrack& p) { p.locked = on; });
        });
        auto* back = named(button("◂", "quiet"), "planeBackward", "Track backward (Alt+Shift+Y)");
        auto* both = named(button("Track both ways", "quiet"), "planeBoth", "From the frame that is shown (Y)");
        auto* forward = named(button("▸", "quiet"), "planeForward", "Track forward (Alt+Y)");
        back->setAccessibleName("Track the plane backward");
        forward->setAccessibleName("Track the plane forward");
        auto* buttons = buttonRow({back, both, forward});
        QLabel* result = nullptr;
        onTop([&] {
            wide(buttons);
            result = words("planeResult");
        });
        wide(locked);
        onClick(back, [this] { stage_.track(Direction::backward); });
        onClick(both, [this] { stage_.track(Direction::both); });
        onClick(forward, [this] { stage_.track(Direction::forward); });
        auto* scene = named(button("By the solved scene", "quiet"), "planeScene",
                            "The plane through the solved points inside its outline, in place of a track by its "
                            "texture: for a surface without any");
        auto* sceneRow = buttonRow({scene});
        wide(sceneRow);
        onClick(scene, [this] { stage_.takeFromScene(); });
        onRefresh([this, sceneRow, scene] {
            sceneRow->setVisible(hand_.held() && !hand_.held()->sides && session_.shot().solve);
            scene->setEnabled(session_.isReady());
        });
        showWhileHeld({shape, shapeLabel, least, leastLabel, buttons, locked, result});
        onRefresh([this, shape, motion, motionLabel, least, back, both, forward, locked, result] {
            const PlanarTrack* plane = hand_.held();
            const bool may = plane && !plane->locked && session_.isReady();
            for (QWidget* part : std::initializer_list<QWidget*>{shape, motion, least, back, both, forward})
                part->setEnabled(may);
            for (QWidget* part : std::initializer_list<QWidget*>{motion, motionLabel})
                part->setVisible(plane && !plane->sides);
            if (!plane) return;
            shape->setCurrentIndex(plane->sides ? 1 : 0);
            locked->setChecked(plane->locked);
            motion->setCurrentIndex(plane->motion ? int(*plane->motion) + 1 : 0);
            setQuietly(least, int(std::lround(plane->leastSeen * 100)));
            result->setText(QString("reference %1 · %2")
                                .arg(plane->referenceFrame)
                                .arg(text(wordsOf(*plane, session_.shot().plate.range))) +
                            figures(*plane));
        });
    }
    static QString figures(const PlanarTrack& plane) {
        if (plane.samples.size() < 2) return {};
        const auto worst = std::min_element(plane.samples.begin(), plane.samples.end(),
                                            [](const PlaneSample& a, const PlaneSample& b) { return a.fit < b.fit; });
        const auto loosest = std::max_element(
            plane.samples.begin(), plane.samples.end(),
            [](const PlaneSample& a, const PlaneSample& b) { return a.deviation_px < b.deviation_px; });
        QString turned;
        if (const auto first = turnAt(plane, plane.firstFrame()), last = turnAt(plane, plane.lastFrame());
            first && last)
            turned = QString("\nturned from %1° to %2°").arg(*first, 0, 'f', 1).arg(*last, 0, 'f', 1);
        return QString("\nworst fit %1 on %2 · within ± %3 px")
                   .arg(double(worst->fit), 0, 'f', 3)
                   .arg(worst->frame)
                   .arg(double(loosest->deviation_px), 0, 'f', 2) +
               turned;
    }

    void addSurface() {
        auto* place = named(button("Place corners", "quiet"), "surfacePlace", "Four clicks, in any order (Shift+A)");
        auto* outline = named(button("From outline", "quiet"), "surfaceFromOutline", "(Ctrl+Shift+G)");
        auto* buttons = buttonRow({place, outline});
        wide(buttons);
        onClick(place, [this] { stage_.takeTool("surface"); });
        onClick(outline, [this] { stage_.surfaceFromOutline(); });
        auto* ties = words("surfaceWords");
        auto* anew = named(button("Track on anew", "quiet"), "surfaceAnew",
                           "From the correction on this frame: what comes after it is tracked again; what lies before "
                           "it, to the tie before, is bent towards it");
        auto* untie = named(button("Undo it here", "quiet"), "surfaceUntie", "Takes the correction on this frame away");
        auto* tieRow = buttonRow({anew, untie});
        wide(tieRow);
        onClick(anew, [this] { stage_.trackAnew(Direction::forward); });
        onClick(untie, [this] {
            if (hand_.mayEdit())
                session_.edit(QString("Remove the correction on %1").arg(session_.player.frame()),
                              withPlaneTieRemoved(session_.shot(), *hand_.plane(), session_.player.frame()));
        });
        showWhileHeld({buttons, ties});
        onRefresh([this, place, outline, ties, tieRow, anew] {
            const PlanarTrack* plane = hand_.held();
            const bool none = plane && plane->ties.isEmpty();
            place->setText(none ? "Place corners" : "Move corners");
            outline->setVisible(none);
            QStringList frames;
            const int here = session_.player.frame();
            bool tied = false;
            if (plane)
                for (const PlaneTie& tie : plane->ties) {
                    frames << QString::number(tie.frame);
                    tied = tied || tie.frame == here;
                }
            ties->setText(none ? "No surface yet: the four corners that are handed on. They may lie anywhere on the "
                                 "plane, also beyond the outline."
                               : QString("Surface placed on %1. A corner dragged on another frame is a correction "
                                         "there, spread to the ones beside it.")
                                     .arg(frames.join(", ")));
            tieRow->setVisible(tied && plane->ties.size() > 1);
            anew->setEnabled(session_.isReady());
        });
    }

    void addLooks() {
        auto* view = named(choice({"on the plate", "squared up", "difference"}), "planeView",
                           "Squared up it stands still if it sticks (A); against its reference frame it is dark then");
        auto* viewLabel = row("See", view);
        connect(view, &QComboBox::activated, this, [this](int index) {
            stage_.look(QStringList{"plate", "surface", "surface difference"}.value(index));
        });
        auto* grid = named(new QCheckBox("Grid"), "planeGrid", "(Shift+N)");
        auto* test = named(new QCheckBox("Test picture"), "planeTest", "Numbered chequers on the surface (M)");
        auto* ticks = buttonRow({grid, test});
        wide(ticks);
        connect(grid, &QCheckBox::clicked, this, [this](bool on) { hand_.setGrid(on); });
        connect(test, &QCheckBox::clicked, this, [this](bool on) { hand_.setTestPicture(on); });
        onRefresh([this, view, viewLabel, grid, test, ticks] {
            const PlanarTrack* plane = hand_.held();
            const bool has = plane && !plane->ties.isEmpty();
            for (QWidget* part : std::initializer_list<QWidget*>{view, viewLabel, ticks}) part->setVisible(has);
            const QString looked = stage_.looked();
            view->setCurrentIndex(looked == "surface" ? 1 : looked == "surface difference" ? 2 : 0);
            grid->setChecked(hand_.grid());
            test->setChecked(hand_.testPicture());
        });
    }

    void addHandingOn() {
        auto* pin =
            named(button("Corner pin", "quiet"), "planeHandOn", "Listed in the Delivery card, JSON and a table");
        auto* copy = named(button("Copy", "quiet"), "planeCopy", "The corner pin to the clipboard, as a table");
        auto* matte = named(button("Matte", "quiet"), "planeMatte", "The outline as a matte that rides on the plane");
        auto* first = buttonRow({pin, copy, matte});
        wide(first);
        auto* steady =
            named(button("Hold still", "quiet"), "planeSteady",
                  "The picture held still on the plane, by the Steady card; what is changed there is put back");
        auto* render = named(button("Render surface", "quiet"), "planeRender",
                             "The surface squared up, as a sequence of the size below");
        auto* back = named(button("Put back…", "quiet"), "planePutBack",
                           "The rendered surface as it came back from painting: what was changed goes over the plate");
        auto* second = buttonRow({steady, render});
        auto* corners = named(button("As tracks", "quiet"), "planeTracks",
                              "The four corners as point tracks: so they join the camera solve");
        wide(second);
        auto* third = buttonRow({back, corners});
        wide(third);
        auto* width = named(spin(8, 16384, " px"), "planeWidth");
        auto* height = named(spin(8, 16384, " px"), "planeHeight");
        auto* size = columns({{"Width", width}, {"Height", height}});
        wide(size);
        connect(width, &QSpinBox::valueChanged, this, [this] { sizeChosen_ = true; });
        connect(height, &QSpinBox::valueChanged, this, [this] { sizeChosen_ = true; });
        onClick(pin, [this] { stage_.handOn(); });
        onClick(copy, [this] { stage_.copyCornerPin(); });
        onClick(matte, [this] { stage_.addMatte(); });
        onClick(steady, [this] { stage_.steadyOn(); });
        onClick(render, [this, width, height] {
            const Shot& shot = session_.shot();
            const auto folder = deliveryFolderOf(shot, session_.document.file());
            stage_.renderSquared(
                (folder / fileNameOf(shot.name + "." + hand_.held()->name) / "surface.####.png").string(),
                width->value(), height->value());
        });
        onClick(back, [this] {
            const QString path = askToOpen(FileKind::plate, "The painted surface: one of its frames", this);
            if (!path.isEmpty()) stage_.putBackSurface(path.toStdString());
        });
        onClick(corners, [this] { stage_.cornersAsTracks(); });
        showWhileHeld({first, second});
        onRefresh([this, copy, render, third, size, width, height] {
            const PlanarTrack* plane = hand_.held();
            const bool has = plane && !plane->ties.isEmpty();
            copy->setVisible(has);
            render->setVisible(has);
            third->setVisible(has);
            size->setVisible(has);
            if (plane && hand_.plane() != sizedFor_) sizeChosen_ = false;
            sizedFor_ = hand_.plane();
            if (const auto best = has && !sizeChosen_ ? squaredSize(*plane) : std::nullopt) {
                setQuietly(width, best->width);
                setQuietly(height, best->height);
            }
        });
    }

    PlanesStage& stage_;
    PlaneHand& hand_;
    bool filling_ = false;
    bool sizeChosen_ = false;
    std::optional<PlaneId> sizedFor_;
};

}  // namespace

QWidget* makePlanesCard(Session& session, PlanesStage& stage) { return new PlanesCard(session, stage); }

}  // namespace pinion
