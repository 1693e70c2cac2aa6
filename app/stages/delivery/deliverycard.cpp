#include "stages/delivery/deliverycard.h"

#include "exchange/deliverables.h"
#include "jobs/delivering.h"
#include "stages/copying.h"
#include "stages/shotform.h"
#include "widgets/filedialogs.h"

#include <QCheckBox>
#include <QLineEdit>
#include <QTimer>
#include <QVBoxLayout>

#include <algorithm>

namespace pinion {
namespace {

QString stateOf(const Shot& shot, const Deliverable& item) {
    const QString format = text(kDeliverableFormats[std::size_t(item.format)]).toUpper();
    const QString name = item.format == DeliverableFormat::usda ? QString("USD") : format;
    const bool isFresh = item.writtenKey == deliveryKey(shot, item);
    return QString("%1 · %2").arg(name, item.writtenKey == 0 ? "open" : isFresh ? "written" : "stale");
}

/// The deliverables, a pair of lines each: name and state; place and a way to the clipboard.
class DeliveryList : public QWidget {
public:
    explicit DeliveryList(Session& session) : session_(session), rows_(new QVBoxLayout(this)) {
        rows_->setContentsMargins(0, 0, 0, 0);
        rows_->setSpacing(4);
    }

    void refresh() {
        const Shot& shot = session_.shot();
        // A row is made anew only when it is another one: somebody may be typing in it.
        if (!std::equal(made_.begin(), made_.end(), shot.deliverables.begin(), shot.deliverables.end(), isSame)) {
            clear();
            for (const Deliverable& item : shot.deliverables) made_.push_back(makeRow(item));
        }
        for (std::size_t i = 0; i < made_.size(); ++i) made_[i].state->setText(stateOf(shot, shot.deliverables[i]));
    }

private:
    struct Row {
        Deliverable item;  ///< as it was when the row was made
        QLabel* state;
    };
    static bool isSame(const Row& row, const Deliverable& item) {
        return row.item.name == item.name && row.item.place == item.place && row.item.kind == item.kind &&
               row.item.format == item.format;
    }
    void clear() {
        while (QLayoutItem* item = rows_->takeAt(0)) {
            if (item->widget()) item->widget()->deleteLater();
            delete item;
        }
        made_.clear();
    }

    QHBoxLayout* addLine(int spacing) {
        auto* line = new QWidget(this);
        auto* layout = new QHBoxLayout(line);
        layout->setContentsMargins(0, 0, 0, 0);
        layout->setSpacing(spacing);
        rows_->addWidget(line);
        return layout;
    }
    Row makeRow(const Deliverable& item) {
        auto* name = new QLabel(fontMetrics().elidedText(text(item.name), Qt::ElideMiddle, 118));
        name->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
        name->setToolTip(text(item.name) + "\n" + text(item.place));
        auto* state = new QLabel;
        state->setProperty("dim", true);
        auto* first = addLine(6);
        first->addWidget(name, 1);
        first->addWidget(state);
        auto* second = addLine(4);
        second->addWidget(makePlace(item), 1);
        if (deliverableRow(item.kind).text) second->addWidget(makeCopy(item));
        return {item, state};
    }
    QLineEdit* makePlace(const Deliverable& item) {
        auto* place = new QLineEdit(text(item.place));
        place->setAccessibleName("Place of " + text(item.name));
        place->setCursorPosition(0);
        place->setStyleSheet(
            "QLineEdit { background: transparent; border: 1px solid transparent; color: #a2a2a2; padding: 0 2px; "
            "font-size: 11px; } QLineEdit:focus { border-color: #d9a441; }");
        connect(place, &QLineEdit::editingFinished, this, [this, place, item] {
            const std::string to = place->text().trimmed().toStdString();
            if (to.empty() || to == item.place) return;
            Shot changed = session_.shot();
            changed.deliverables = changed.deliverables.edited([&](auto& items) {
                for (Deliverable& one : items)
                    if (one.name == item.name) one.place = to;
            });
            // After the signal: the edit rebuilds this list, and this line with it.
            QTimer::singleShot(0, this, [this, changed] { session_.edit("Change a delivery's place", changed); });
        });
        return place;
    }
    QPushButton* makeCopy(const Deliverable& item) {
        auto* copy = new QPushButton("Copy");
        copy->setFlat(true);
        copy->setObjectName("copy-" + text(item.name));
        copy->setAccessibleName("Copy " + text(item.name));
        copy->setToolTip("To the clipboard, as it would be written");
        copy->setStyleSheet(
            "QPushButton { padding: 1px 6px; font-size: 11px; background: transparent; color: #d9a441; border: 1px "
            "solid transparent; } QPushButton:focus { border-color: #d9a441; }");
        connect(copy, &QPushButton::clicked, this, [this, name = item.name] {
            for (const Deliverable& one : session_.shot().deliverables)
                if (one.name == name) startCopy(session_, session_.shot(), one);
        });
        return copy;
    }

    Session& session_;
    QVBoxLayout* rows_;
    std::vector<Row> made_;
};

class DeliveryCard : public ShotForm {
public:
    DeliveryCard(Session& session, DeliveryStage& stage) : ShotForm(session), stage_(stage) {
        auto* list = new DeliveryList(session);
        wide(list);
        onRefresh([list] { list->refresh(); });
        addOptions();
        addParts();
        onTop([this] { addDeliver(); });
        connect(&session.document, &Document::fileChanged, this, [this] { refresh(); });
        refresh();
    }

private:
    /// One choice for all that it concerns: a shot whose files disagree helps no one.
    void changeAll(const QString& what, const std::function<void(Deliverable&)>& edit) {
        change(what, [&](Shot& shot) {
            shot.deliverables = shot.deliverables.edited([&](auto& items) {
                for (Deliverable& item : items) edit(item);
            });
        });
    }
    void addOptions() {
        auto* axis = choice({"Y up", "Z up"});
        row("USD world", axis);
        connect(axis, &QComboBox::activated, this, [this](int index) {
            changeAll("Change up axis", [&](Deliverable& d) { d.upAxis = index == 1 ? UpAxis::z : UpAxis::y; });
        });
        auto* plate = choice({"as filmed", "undistorted"});
        plate->setObjectName("deliveryPlate");
        plate->setToolTip(
            "The plate that the camera is for. Undistorted: without a lens, its film back grown by the overscan");
        row("Camera for plate", plate);
        connect(plate, &QComboBox::activated, this, [this](int index) {
            changeAll("Change the camera's plate", [&](Deliverable& d) {
                if (d.kind == DeliverableKind::camera) d.overscan = index == 1;
            });
        });
        auto* origin = choice({"top left", "bottom left"});
        origin->setObjectName("deliveryOrigin");
        origin->setToolTip("Where the pixels of tracks, transforms and corner pins are counted from");
        row("Pixels from", origin);
        connect(origin, &QComboBox::activated, this, [this](int index) {
            changeAll("Change origin of deliveries", [&](Deliverable& d) { d.transform.origin = Origin(index); });
        });
        auto* use = choice({"match-move", "inverse"});
        use->setToolTip("Match-move: what hangs on it follows the picture. Inverse: it holds the picture still");
        auto* useLabel = row("Transforms as", use);
        connect(use, &QComboBox::activated, this, [this](int index) {
            changeAll("Change use of transforms", [&](Deliverable& d) { d.transform.inverse = index == 1; });
        });
        showIf({use, useLabel}, [](const Shot& shot) { return !shot.locators.isEmpty(); });
        onRefresh([this, axis, plate, origin, use] {
            const auto& items = session_.shot().deliverables;
            if (items.isEmpty()) return;
            axis->setCurrentIndex(items.front().upAxis == UpAxis::z ? 1 : 0);
            plate->setCurrentIndex(
                std::any_of(items.begin(), items.end(), [](const Deliverable& d) { return d.overscan; }));
            origin->setCurrentIndex(int(items.back().transform.origin));
            use->setCurrentIndex(items.back().transform.inverse ? 1 : 0);
        });
    }
    void addParts() {
        auto* parts = new QWidget;
        auto* line = new QHBoxLayout(parts);
        line->setContentsMargins(0, 0, 0, 0);
        for (const auto& [words, member] :
             {std::pair{"position", &TransformOptions::position}, std::pair{"rotation", &TransformOptions::rotation},
              std::pair{"scale", &TransformOptions::scale}}) {
            auto* box = new QCheckBox(words);
            line->addWidget(box);
            connect(box, &QCheckBox::clicked, this, [this, member = member](bool on) {
                changeAll("Change delivered parts", [&](Deliverable& d) { d.transform.*member = on; });
            });
            onRefresh([this, box, member = member] {
                const auto& items = session_.shot().deliverables;
                if (!items.isEmpty()) box->setChecked(items.back().transform.*member);
            });
        }
        wide(parts);
        showIf({parts}, [](const Shot& shot) { return !shot.locators.isEmpty(); });
    }
    void addDeliver() {
        auto* folder = dimLabel("");
        folder->setObjectName("deliveryFolder");
        auto* deliver = button("Deliver all", "quiet");
        auto* choose = button("Folder…");
        wide(buttonRow({deliver, choose}));
        wide(folder);
        onClick(deliver, [this] { stage_.startDelivery({}); });
        onClick(choose, [this] {
            const QString chosen = askForFolder("delivery", "Delivery folder", this);
            if (!chosen.isEmpty())
                change("Choose delivery folder", [&](Shot& shot) { shot.deliveryFolder = chosen.toStdString(); });
        });
        onRefresh([this, folder, deliver] {
            const Shot& shot = session_.shot();
            folder->setText(shot.plate.isOpen()
                                ? "to " + text(deliveryFolderOf(shot, session_.document.file()).string())
                                : QString());
            deliver->setEnabled(!session_.isBusy() && (shot.solve || !shot.tracks.isEmpty() || !shot.mattes.isEmpty()));
        });
    }

    DeliveryStage& stage_;
};

}  // namespace

QWidget* makeDeliveryCard(Session& session, DeliveryStage& stage) { return new DeliveryCard(session, stage); }

}  // namespace pinion
