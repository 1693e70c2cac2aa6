#pragma once

#include <QAction>
#include <QKeySequence>
#include <QObject>
#include <QString>

#include <functional>
#include <vector>

class QWidget;

namespace pinion {

/// One thing the program can do: the menus, the command finder and the table of keys all show this.
struct Command {
    QString menu;  ///< "Track", ...
    QString name;  ///< "Track forward"
    QAction* action;
    std::function<QString()> whyNot;  ///< empty when it can be done now, else the reason
};

/// Everything the program can do, in the order of the menus.
class Commands : public QObject {
    Q_OBJECT
public:
    explicit Commands(QWidget* window);
    QAction* add(const QString& menu, const QString& name, const QList<QKeySequence>& keys,
                 const std::function<void()>& run, const std::function<QString()>& whyNot = {});
    /// Null when there is no such command.
    QAction* action(const QString& name) const;
    const std::vector<Command>& all() const { return commands_; }
    /// Asks every command whether it can be done now.
    void refresh();
    /// Runs one, or says why not.
    bool run(const Command& command);

signals:
    void refused(const QString& why);

private:
    QWidget* window_;
    std::vector<Command> commands_;
};

/// Shows the commands that hold all typed parts; Enter runs the chosen one.
void showCommandFinder(Commands& commands, QWidget* parent);

/// The one table of keys.
void showKeyTable(const Commands& commands, QWidget* parent);

}  // namespace pinion
