#include "widgets/commands.h"

#include "widgets/theme.h"

#include <QDialog>
#include <QHeaderView>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QTableWidget>
#include <QVBoxLayout>
#include <QWidget>

#include <algorithm>

namespace pinion {
namespace {

QString keysOf(const QAction* action) {
    QStringList keys;
    for (const QKeySequence& key : action->shortcuts()) keys << key.toString(QKeySequence::NativeText);
    return keys.join("  ");
}

/// How well a command is what was typed, 0 the best: its very name, a name that begins so, words that begin so, parts
/// of the name, of the menu. Below 0: it is not.
int rankOf(const Command& command, const QStringList& parts) {
    const QString whole = command.menu + " " + command.name, typed = parts.join(' ');
    for (const QString& part : parts)
        if (!whole.contains(part, Qt::CaseInsensitive)) return -1;
    if (typed.isEmpty()) return 0;
    if (command.name.compare(typed, Qt::CaseInsensitive) == 0) return 0;
    if (command.name.startsWith(typed, Qt::CaseInsensitive)) return 1;
    const auto beginsWord = [&](const QString& part) {
        return (" " + command.name).contains(" " + part, Qt::CaseInsensitive);
    };
    if (std::all_of(parts.begin(), parts.end(), beginsWord)) return 2;
    const auto isInName = [&](const QString& part) { return command.name.contains(part, Qt::CaseInsensitive); };
    return std::all_of(parts.begin(), parts.end(), isInName) ? 3 : 4;
}

class Finder : public QDialog {
public:
    Finder(Commands& commands, QWidget* parent)
        : QDialog(parent, Qt::Popup | Qt::FramelessWindowHint), commands_(commands) {
        setObjectName("commandFinder");
        setStyleSheet("QDialog { background: #242424; border: 1px solid #4a4a4a; }");
        resize(520, 380);
        auto* layout = new QVBoxLayout(this);
        layout->setContentsMargins(10, 10, 10, 10);
        input_ = new QLineEdit;
        input_->setObjectName("finderInput");
        input_->setPlaceholderText("Type part of what you want to do");
        list_ = new QListWidget;
        list_->setObjectName("finderList");
        layout->addWidget(input_);
        layout->addWidget(list_);
        connect(input_, &QLineEdit::textChanged, this, [this] { fill(); });
        connect(input_, &QLineEdit::returnPressed, this, [this] { choose(); });
        connect(list_, &QListWidget::itemClicked, this, [this] { choose(); });
        input_->installEventFilter(this);
        commands_.refresh();
        fill();
        input_->setFocus();
    }

protected:
    bool eventFilter(QObject* watched, QEvent* event) override {
        if (event->type() == QEvent::KeyPress) {
            const int key = static_cast<QKeyEvent*>(event)->key();
            if (key == Qt::Key_Down || key == Qt::Key_Up) {
                const int row = list_->currentRow() + (key == Qt::Key_Down ? 1 : -1);
                list_->setCurrentRow(std::clamp(row, 0, std::max(0, list_->count() - 1)));
                return true;
            }
        }
        return QDialog::eventFilter(watched, event);
    }

private:
    void fill() {
        list_->clear();
        shown_.clear();
        const QStringList parts = input_->text().split(' ', Qt::SkipEmptyParts);
        std::vector<std::pair<int, std::size_t>> found;
        for (std::size_t i = 0; i < commands_.all().size(); ++i)
            if (const int rank = rankOf(commands_.all()[i], parts); rank >= 0) found.emplace_back(rank, i);
        // In the menus' order where they fit alike.
        std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        for (const auto& [rank, i] : found) {
            const Command& command = commands_.all()[i];
            const QString why = command.whyNot ? command.whyNot() : QString();
            QString line = command.name + "   " + keysOf(command.action);
            if (!why.isEmpty()) line += "   — " + why;
            auto* item = new QListWidgetItem(line);
            item->setForeground(why.isEmpty() ? theme::kText : theme::kDim);
            item->setToolTip(command.menu);
            list_->addItem(item);
            shown_.push_back(i);
        }
        list_->setCurrentRow(0);
    }
    void choose() {
        const int row = list_->currentRow();
        if (row < 0 || row >= int(shown_.size())) return;
        const Command command = commands_.all()[shown_[std::size_t(row)]];
        accept();
        commands_.run(command);
    }
    Commands& commands_;
    QLineEdit* input_;
    QListWidget* list_;
    std::vector<std::size_t> shown_;
};

}  // namespace

Commands::Commands(QWidget* window) : QObject(window), window_(window) {}

QAction* Commands::add(const QString& menu, const QString& name, const QList<QKeySequence>& keys,
                       const std::function<void()>& run, const std::function<QString()>& whyNot) {
    auto* action = new QAction(name, window_);
    action->setShortcuts(keys);
    action->setObjectName(name);
    window_->addAction(action);
    connect(action, &QAction::triggered, this, run);
    commands_.push_back({menu, name, action, whyNot});
    return action;
}

QAction* Commands::action(const QString& name) const {
    for (const Command& command : commands_)
        if (command.name == name) return command.action;
    return nullptr;
}

void Commands::refresh() {
    for (const Command& command : commands_) {
        const QString why = command.whyNot ? command.whyNot() : QString();
        command.action->setEnabled(why.isEmpty());
        command.action->setToolTip(why.isEmpty() ? command.name : command.name + " — " + why);
    }
}

bool Commands::run(const Command& command) {
    const QString why = command.whyNot ? command.whyNot() : QString();
    if (!why.isEmpty()) {
        emit refused(command.name + ": " + why);
        return false;
    }
    command.action->setEnabled(true);
    command.action->trigger();
    return true;
}

void showCommandFinder(Commands& commands, QWidget* parent) {
    auto* finder = new Finder(commands, parent);
    finder->setAttribute(Qt::WA_DeleteOnClose);
    finder->move(parent->mapToGlobal(QPoint((parent->width() - finder->width()) / 2, 90)));
    finder->show();
}

void showKeyTable(const Commands& commands, QWidget* parent) {
    auto* dialog = new QDialog(parent);
    dialog->setObjectName("keyTable");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle("Keys and mouse");
    dialog->resize(560, 620);
    auto* layout = new QVBoxLayout(dialog);
    auto* table = new QTableWidget(0, 3);
    table->setObjectName("keys");
    table->setHorizontalHeaderLabels({"Where", "What", "Keys"});
    table->verticalHeader()->hide();
    table->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table->setSelectionMode(QAbstractItemView::NoSelection);
    table->setShowGrid(false);
    table->setAlternatingRowColors(true);
    table->horizontalHeader()->setSectionResizeMode(1, QHeaderView::Stretch);
    const auto row = [&](const QString& where, const QString& what, const QString& keys) {
        const int at = table->rowCount();
        table->insertRow(at);
        table->setItem(at, 0, new QTableWidgetItem(where));
        table->setItem(at, 1, new QTableWidgetItem(what));
        table->setItem(at, 2, new QTableWidgetItem(keys));
    };
    for (const Command& command : commands.all())
        if (!command.action->shortcuts().isEmpty()) row(command.menu, command.name, keysOf(command.action));
    row("Canvas", "Zoom at the cursor", "Wheel");
    row("Canvas", "Pan", "Middle drag");
    row("Canvas", "Select a track; add to the selection", "Click; Ctrl+click");
    row("Canvas", "Select an area", "Drag");
    row("Canvas", "Move a hand-placed track (a tie)", "Drag");
    row("Canvas", "Bare picture, while held", "H");
    row("3D", "Select a point; an area", "Click; drag");
    row("World", "The world as it was before it was last set, while held", "Shift+Q");
    row("3D", "Move, turn or size what stands there", "Drag its knobs");
    row("3D", "Turn; pan; zoom", "Right drag, Alt+left drag; middle drag; wheel");
    row("Thread sheet", "Trim the range", "Drag the brackets");
    table->resizeColumnToContents(0);
    table->resizeColumnToContents(2);
    layout->addWidget(table);
    dialog->show();
}

}  // namespace pinion
