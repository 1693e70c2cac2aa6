#include "stages/camera/objectlist.h"

#include "shot/edits/objectedits.h"
#include "shot/objects.h"
#include "stages/camera/camerastage.h"
#include "stages/shotform.h"

#include <QLineEdit>

#include <algorithm>
#include <array>

namespace pinion {
namespace {

class ObjectList : public ShotForm {
public:
    ObjectList(Session& session, CameraStage& stage) : ShotForm(session), stage_(stage) {
        addMaking();
        addList();
        refresh();
    }

private:
    const ShotObject* held() const {
        const Shot& shot = session_.shot();
        return objects_ && objects_->count() > 0 ? findObject(shot, ObjectId(objects_->currentData().toLongLong()))
                                                 : nullptr;
    }

    void addMaking() {
        auto* make = named(new QPushButton("Chosen as an object"), "objectMake",
                           "The chosen tracks go together by themselves: solve their motion against the camera");
        auto* row = buttonRow({make});
        wide(row);
        onClick(make, [this] { stage_.addObject(session_.selection.list()); });
        onRefresh([this, row, make] {
            const Shot& shot = session_.shot();
            row->setVisible(shot.solve && !session_.selection.isEmpty());
            make->setEnabled(!session_.isBusy());
        });
    }

    void addList() {
        auto* title = dimLabel("Objects");
        objects_ = named(cutShort(new QComboBox), "objects", "Rigid things that move by themselves");
        objects_->setAccessibleName("Objects");
        auto* name = named(new QLineEdit, "objectName", "What it is called");
        name->setAccessibleName("Name of the object");
        auto* words = dimLabel("");
        words->setObjectName("objectFigures");
        words->setWordWrap(true);
        auto* solve = named(new QPushButton("Solve"), "objectSolve", "Solve its motion against the camera");
        auto* ground = named(new QPushButton("On the ground"), "objectGround",
                             "The chosen tracks are where it touches the ground: its size follows. None chosen: it "
                             "does not");
        auto* remove = named(new QPushButton("Remove"), "objectRemove", "Its tracks count for the camera again");
        auto* choose = named(new QPushButton("Choose"), "objectChoose", "Choose its tracks");
        auto* buttons = buttonRow({solve, choose});
        auto* sizes = buttonRow({ground, remove});
        wide(title);
        wide(objects_);
        wide(name);
        wide(words);
        wide(buttons);
        wide(sizes);
        connect(objects_, &QComboBox::activated, this, [this] { refresh(); });
        connect(name, &QLineEdit::editingFinished, this, [this, name] {
            const ShotObject* object = held();
            if (object && text(object->name) != name->text() && !name->text().trimmed().isEmpty())
                session_.edit("Rename the object",
                              withObjectRenamed(session_.shot(), object->id, name->text().trimmed().toStdString()));
        });
        onClick(solve, [this] {
            if (const ShotObject* object = held()) stage_.startObject(object->id);
        });
        onClick(choose, [this] {
            if (const ShotObject* object = held())
                session_.selection.set({object->tracks.begin(), object->tracks.end()});
        });
        onClick(remove, [this] {
            if (const ShotObject* object = held())
                session_.edit("Remove " + text(object->name), withObjectRemoved(session_.shot(), object->id));
        });
        onClick(ground, [this] { layOnGround(); });
        onRefresh([this, title, name, words, buttons, sizes, solve, ground] {
            const Shot& shot = session_.shot();
            const bool any = !shot.objects.isEmpty();
            for (QWidget* part : std::array<QWidget*, 6>{title, objects_, name, words, buttons, sizes})
                part->setVisible(any);
            if (!any) return;
            const auto before = objects_->currentData();
            objects_->clear();
            for (const ShotObject& object : shot.objects)
                objects_->addItem(QString("%1, %2 tracks").arg(text(object.name)).arg(object.tracks.size()),
                                  qlonglong(object.id));
            const int at = objects_->findData(before);
            objects_->setCurrentIndex(at >= 0 ? at : objects_->count() - 1);
            const ShotObject* object = held();
            if (!name->hasFocus()) name->setText(text(object->name));
            words->setText(figures(shot, *object));
            solve->setText(object->solve ? "Solve again" : "Solve");
            for (QPushButton* one : {solve, ground}) one->setEnabled(!session_.isBusy() && shot.solve);
        });
    }

    static QString figures(const Shot& shot, const ShotObject& object) {
        if (!object.solve) return "Not solved.";
        const ObjectSolve& solve = *object.solve;
        QString words = QString("%1 px, %2 points, %3 to %4; %5.")
                            .arg(solve.rms_px, 0, 'f', 3)
                            .arg(solve.points.size())
                            .arg(solve.frames.empty() ? 0 : solve.frames.front().frame)
                            .arg(solve.frames.empty() ? 0 : solve.frames.back().frame)
                            .arg(text(sizeWords(solve)));
        if (!solve.doubt.empty()) words += " Not sure: " + text(solve.doubt) + ".";
        if (object.solvedKey != objectKey(shot, object)) words += " Its tracks or the camera changed since.";
        return words;
    }

    void layOnGround() {
        const ShotObject* object = held();
        if (!object) return;
        std::vector<TrackId> touching;
        for (const TrackId id : session_.selection.list())
            if (std::find(object->tracks.begin(), object->tracks.end(), id) != object->tracks.end())
                touching.push_back(id);
        const ObjectId id = object->id;
        session_.edit("Where it touches the ground", withObjectEdited(session_.shot(), id, [&](ShotObject& one) {
                          one.onGround = List<TrackId>(std::move(touching));
                      }));
        stage_.startObject(id);
    }

    CameraStage& stage_;
    QComboBox* objects_ = nullptr;
};

}  // namespace

QWidget* makeObjectList(Session& session, CameraStage& stage) { return new ObjectList(session, stage); }

}  // namespace pinion
