#include "stages/camera/measurestable.h"

#include "widgets/form.h"
#include "widgets/theme.h"
#include "session/session.h"

#include <QHeaderView>
#include <QKeyEvent>
#include <QTableWidget>

#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector3d;

enum Column { what, metres, sigma, solved };
constexpr int kColumns = 4;

/// The positive number in a cell, with or without its unit; none when it is none.
std::optional<double> lengthIn(QString words) {
    words = words.trimmed();
    if (words.endsWith('m')) words.chop(1);
    bool valid = false;
    const double value = words.trimmed().toDouble(&valid);
    return valid && std::isfinite(value) && value > 0 ? std::optional(value) : std::nullopt;
}

/// "1.5, 0, -2": three numbers between commas or spaces.
std::optional<Vector3d> placeIn(QString words) {
    const QStringList parts = words.replace(',', ' ').split(' ', Qt::SkipEmptyParts);
    if (parts.size() != 3) return std::nullopt;
    Vector3d place;
    for (int i = 0; i < 3; ++i) {
        bool valid = false;
        place[i] = parts[i].toDouble(&valid);
        if (!valid || !std::isfinite(place[i])) return std::nullopt;
    }
    return place;
}

QString nameOf(const Shot& shot, TrackId id) {
    const Track* track = findTrack(shot, id);
    return track ? text(track->name) : QString("(gone)");
}

QString number(double value) { return QString::number(value, 'g', 6); }
QString placeText(const Vector3d& p) { return QString("%1, %2, %3").arg(number(p.x()), number(p.y()), number(p.z())); }

/// Where the solve puts a track in metres; none when it has none or knows no metre.
std::optional<Vector3d> solvedPlace(const Shot& shot, TrackId id) {
    if (!shot.solve || !shot.solve->inMetres) return std::nullopt;
    const SolvedTrack* found = findSolved(shot, id);
    return found ? found->xyz : std::nullopt;
}

class MeasuresTable : public QTableWidget {
public:
    explicit MeasuresTable(Session& session) : QTableWidget(0, kColumns), session_(session) {
        setObjectName("measures");
        setAccessibleName("Measured on the set");
        setHorizontalHeaderLabels({"Tracks", "Metres", "±", "Solved"});
        verticalHeader()->hide();
        verticalHeader()->setDefaultSectionSize(22);
        horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
        horizontalHeader()->setSectionResizeMode(what, QHeaderView::Stretch);
        horizontalHeader()->setMinimumSectionSize(30);
        setStyleSheet("QHeaderView::section { padding: 3px 3px; } QTableWidget::item { padding: 0 1px; }");
        horizontalHeader()->setHighlightSections(false);
        setSelectionBehavior(QAbstractItemView::SelectRows);
        setShowGrid(false);
        setToolTip("Double click a number to change it; Delete takes the line out");
        connect(this, &QTableWidget::cellChanged, this, [this](int row, int column) { take(row, column); });
        connect(this, &QTableWidget::cellClicked, this,
                [this](int row, int) { session_.selection.set(tracksOf(row)); });
    }

    /// Fills the lines anew from the shot.
    void refresh() {
        const QSignalBlocker quiet(this);
        const Shot& shot = session_.shot();
        const SolveSettings& s = shot.solveSettings;
        setRowCount(int(s.distances.size() + s.places.size()));
        int row = 0;
        for (const KnownDistance& known : s.distances) {
            const auto a = solvedPlace(shot, known.a), b = solvedPlace(shot, known.b);
            line(row++, nameOf(shot, known.a) + "\n" + nameOf(shot, known.b), number(known.metres), known.sigma,
                 a && b ? QString::number((*a - *b).norm(), 'f', 3) : QString("–"));
        }
        for (const KnownPlace& known : s.places) {
            // Where the measures do not fix the axes, only its distance from where it should be would mislead.
            const auto at = s.places.size() >= 3 ? solvedPlace(shot, known.track) : std::nullopt;
            line(row++, nameOf(shot, known.track), placeText(known.metres), known.sigma,
                 at ? QString("%1 off").arg((*at - known.metres).norm(), 0, 'f', 3) : QString("–"));
        }
        setVisible(rowCount() > 0);
        int height = horizontalHeader()->sizeHint().height() + 4;
        for (int i = 0; i < std::min(rowCount(), 6); ++i) height += rowHeight(i);
        setFixedHeight(height);
    }

    void removeRows() {
        std::set<int> rows;
        for (const QModelIndex& index : selectionModel()->selectedRows()) rows.insert(index.row());
        if (rows.empty()) return;
        Shot shot = session_.shot();
        SolveSettings& s = shot.solveSettings;
        std::vector<KnownDistance> distances;
        std::vector<KnownPlace> places;
        for (std::size_t i = 0; i < s.distances.size(); ++i)
            if (!rows.contains(int(i))) distances.push_back(s.distances[i]);
        for (std::size_t i = 0; i < s.places.size(); ++i)
            if (!rows.contains(int(s.distances.size() + i))) places.push_back(s.places[i]);
        s.distances = List<KnownDistance>(std::move(distances));
        s.places = List<KnownPlace>(std::move(places));
        session_.edit(rows.size() == 1 ? QString("Remove a measure") : QString("Remove %1 measures").arg(rows.size()),
                      std::move(shot));
    }

protected:
    bool event(QEvent* event) override {
        // Delete is the window's key for tracks; here it takes out the line that is marked.
        if (event->type() == QEvent::ShortcutOverride && isDelete(static_cast<QKeyEvent*>(event))) {
            event->accept();
            return true;
        }
        return QTableWidget::event(event);
    }
    void keyPressEvent(QKeyEvent* event) override {
        if (isDelete(event)) removeRows();
        else QTableWidget::keyPressEvent(event);
    }

private:
    static bool isDelete(const QKeyEvent* event) {
        return event->key() == Qt::Key_Delete || event->key() == Qt::Key_Backspace;
    }

    void line(int row, const QString& tracks, const QString& measured, double sigma_m, const QString& now) {
        setRowHeight(row, tracks.contains('\n') ? 36 : 22);
        const QString words[kColumns] = {tracks, measured, number(sigma_m), now};
        for (int column = 0; column < kColumns; ++column) {
            auto* cell = new QTableWidgetItem(words[column]);
            cell->setToolTip(words[column]);
            const bool edits = column == metres || column == sigma;
            cell->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | (edits ? Qt::ItemIsEditable : Qt::NoItemFlags));
            if (column != what) cell->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            setItem(row, column, cell);
        }
    }

    std::set<TrackId> tracksOf(int row) const {
        const SolveSettings& s = session_.shot().solveSettings;
        const std::size_t index = std::size_t(row);
        std::set<TrackId> tracks;
        if (index < s.distances.size()) tracks = {s.distances[index].a, s.distances[index].b};
        else if (index - s.distances.size() < s.places.size()) tracks = {s.places[index - s.distances.size()].track};
        std::erase_if(tracks, [&](TrackId id) { return !findTrack(session_.shot(), id); });
        return tracks;
    }

    /// What was typed into a cell; what is no measure is refused in words and the cell shows what was there.
    void take(int row, int column) {
        Shot shot = session_.shot();
        SolveSettings& s = shot.solveSettings;
        const QString words = item(row, column)->text();
        const std::size_t index = std::size_t(row);
        const bool isDistance = index < s.distances.size();
        const auto length = lengthIn(words);
        const auto place = placeIn(words);
        bool taken = true;
        if (isDistance && length)
            s.distances = s.distances.edited(
                [&](auto& list) { (column == metres ? list[index].metres : list[index].sigma) = *length; });
        else if (!isDistance && column == metres && place)
            s.places = s.places.edited([&](auto& list) { list[index - s.distances.size()].metres = *place; });
        else if (!isDistance && column == sigma && length)
            s.places = s.places.edited([&](auto& list) { list[index - s.distances.size()].sigma = *length; });
        else taken = false;
        if (taken) {
            session_.edit("Change a measure", std::move(shot));
            return;
        }
        session_.sayError(
            isDistance || column == sigma
                ? QString("'%1' is no length: write metres above 0, as in 1.25").arg(words)
                : QString("'%1' is no place: write x, y, z in metres, Y up, as in 1.5, 0, -2").arg(words));
        // The cell is still being closed: it is filled anew after that.
        QMetaObject::invokeMethod(
            this, [this] { refresh(); }, Qt::QueuedConnection);
    }

    Session& session_;
};

}  // namespace

QWidget* makeMeasuresTable(Session& session) {
    auto* panel = new QWidget;
    auto* layout = new QVBoxLayout(panel);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(3);
    layout->addWidget(dimLabel("Measured on the set"));
    auto* table = new MeasuresTable(session);
    layout->addWidget(table);
    auto* distance = button("Add distance");
    distance->setToolTip("Between the two selected tracks; the solve takes it in with its trust");
    auto* place = button("Add place");
    place->setToolTip("Of the selected track, in the set's own metres, Y up; three places fix the world");
    layout->addWidget(buttonRow({distance, place}));
    QObject::connect(distance, &QPushButton::clicked, panel, [&session, table] {
        const auto two = session.selection.list();
        Shot shot = session.shot();
        const auto a = solvedPlace(shot, two[0]), b = solvedPlace(shot, two[1]);
        const double now = a && b ? std::round(1000 * (*a - *b).norm()) / 1000 : 1.0;
        shot.solveSettings.distances = shot.solveSettings.distances.edited([&](auto& list) {
            list.push_back({two[0], two[1], std::max(now, 0.001), 0.01});
        });
        const int row = int(shot.solveSettings.distances.size()) - 1;
        session.edit("Add a distance", std::move(shot));
        table->setCurrentCell(row, metres);
        table->editItem(table->item(row, metres));
    });
    QObject::connect(place, &QPushButton::clicked, panel, [&session, table] {
        Shot shot = session.shot();
        const TrackId track = session.selection.list().front();
        const Vector3d now = solvedPlace(shot, track).value_or(Vector3d::Zero());
        shot.solveSettings.places = shot.solveSettings.places.edited([&](auto& list) {
            list.push_back({track, (1000 * now).array().round() / 1000, 0.01});
        });
        const int row = int(shot.solveSettings.distances.size() + shot.solveSettings.places.size()) - 1;
        session.edit("Add a place", std::move(shot));
        table->setCurrentCell(row, metres);
        table->editItem(table->item(row, metres));
    });
    const auto refreshButtons = [&session, distance, place] {
        const SolveSettings& s = session.shot().solveSettings;
        const auto& selection = session.selection.tracks();
        const bool isPlaced = selection.size() == 1 &&
                              std::any_of(s.places.begin(), s.places.end(),
                                          [&](const KnownPlace& known) { return known.track == *selection.begin(); });
        distance->setEnabled(selection.size() == 2);
        place->setEnabled(selection.size() == 1 && !isPlaced);
    };
    // A cell that is being edited is not filled anew because another track was selected.
    QObject::connect(&session.document, &Document::changed, panel, [table] { table->refresh(); });
    QObject::connect(&session.document, &Document::changed, panel, refreshButtons);
    QObject::connect(&session.selection, &Selection::changed, panel, refreshButtons);
    table->refresh();
    refreshButtons();
    return panel;
}

}  // namespace pinion
