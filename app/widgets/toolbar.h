#pragma once

#include <QStringList>
#include <QWidget>

#include <functional>
#include <map>
#include <vector>

class QAction;
class QHBoxLayout;
class QToolButton;

namespace pinion {

/// A button of a bar: flat, out of the way of the picture's keys.
QToolButton* barButton(const QString& name, const QString& icon = {});
/// The same for a command, as an icon alone.
QToolButton* barButton(QAction* action, const QString& icon);

/// The bar over the canvas: the tools and steps of the stages at its left, the ways to see the shot at its right.
class ToolBar : public QWidget {
    Q_OBJECT
public:
    explicit ToolBar(QWidget* parent = nullptr);

    /// What is added from here on belongs to a stage: it is there while the stage's card is open, or always.
    void setStage(const QString& stage, bool always);
    void openStage(const QString& stage);
    /// Whether a tool's button is there.
    bool offers(const QString& tool) const;
    bool knows(const QString& tool) const { return tools_.contains(tool); }

    void addTool(const QString& tool, const QString& title, const QString& icon, const QString& tip,
                 const std::function<void()>& take);
    void addStep(QAction* action, const QString& icon);
    void addWord(const QString& word);
    /// At the right, in the named views: `chosen` is called with whether it is checked now.
    QToolButton* addSwitch(const QString& title, const QString& tip, const QStringList& views,
                           const std::function<void(bool)>& chosen);
    QToolButton* addView(const QString& view, const QString& title, const QString& tip,
                         const std::function<void()>& show);

    void setTool(const QString& tool);
    void setView(const QString& view);
    /// What stands in the tools' place in another view, where they have nothing to do; null: the tools.
    void setInstead(QWidget* part);

protected:
    void resizeEvent(QResizeEvent*) override;

private:
    struct Part {
        QWidget* widget;
        QString stage;
        bool always;
        bool isWord = false;
    };
    void addLeft(QWidget* widget, bool isWord = false);
    bool isThere(const Part& part) const;
    void showParts();
    /// On a narrow screen tools are icons alone and the words between them go.
    void setNarrow(bool narrow);

    QHBoxLayout* left_;
    QHBoxLayout* switches_;
    QHBoxLayout* views_;
    std::map<QString, QToolButton*> tools_, viewButtons_;
    std::vector<std::pair<QToolButton*, QStringList>> viewSwitches_;
    std::vector<Part> parts_;
    QString stage_, open_;  ///< whose parts are added; whose card is open
    bool always_ = true;
    QWidget* instead_ = nullptr;
    bool narrow_ = false;
    int wide_ = 0;  ///< width that everything needs
};

}  // namespace pinion
