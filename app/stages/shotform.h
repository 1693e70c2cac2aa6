#pragma once

// Cards whose fields are values of the shot; included by the cards' sources alone.

#include "session/session.h"
#include "widgets/form.h"

#include <QApplication>
#include <QCheckBox>

#include <functional>
#include <initializer_list>
#include <vector>

namespace pinion {

/// A form that shows values of the shot, and makes what is typed into an edit. A field is given the name of its edit
/// and a way to its value: `[](auto& shot) -> auto& { return shot.steady.options.leeway; }`.
class ShotForm : public Form {
public:
    explicit ShotForm(Session& session) : session_(session) {
        connect(&session.jobs, &JobRunner::busyChanged, this, [this] {
            // A button that is greyed out would hand its focus on to what stands below, which then looked chosen.
            auto* button = qobject_cast<QAbstractButton*>(QApplication::focusWidget());
            if (button && session_.isBusy() && isAncestorOf(button)) button->clearFocus();
            refresh();
        });
        connect(&session.document, &Document::changed, this, [this] { refresh(); });
        connect(&session.selection, &Selection::changed, this, [this] { refresh(); });
        connect(&session.player, &Player::plateChanged, this, [this] { refresh(); });
    }

    /// A number; `factor` turns the value into what is shown (100 for percent).
    template <class Box, class Access>
    Box* bind(Box* box, const QString& edit, Access access, double factor = 1) {
        using Shown = decltype(box->value());
        connect(box, &Box::valueChanged, this, [this, edit, access, factor](Shown value) {
            change(edit, [&](Shot& shot) {
                auto& held = access(shot);
                held = std::decay_t<decltype(held)>(double(value) / factor);
            });
        });
        onRefresh([this, box, access, factor] {
            const double value = double(access(session_.shot())) * factor;
            if constexpr (std::is_same_v<Shown, int>) setQuietly(box, int(std::lround(value)));
            else setQuietly(box, value);
        });
        return box;
    }
    /// A choice whose place in the list is the value.
    template <class Access>
    QComboBox* bind(QComboBox* box, const QString& edit, Access access) {
        connect(box, &QComboBox::activated, this, [this, edit, access](int index) {
            change(edit, [&](Shot& shot) {
                auto& held = access(shot);
                held = std::decay_t<decltype(held)>(index);
            });
        });
        onRefresh([this, box, access] { box->setCurrentIndex(int(access(session_.shot()))); });
        return box;
    }
    /// A tick, with the names of the edits that set and clear it.
    template <class Access>
    QCheckBox* bind(QCheckBox* box, const QString& on, const QString& off, Access access) {
        connect(box, &QCheckBox::clicked, this, [this, on, off, access](bool checked) {
            change(checked ? on : off, [&](Shot& shot) { access(shot) = checked; });
        });
        onRefresh([this, box, access] { box->setChecked(access(session_.shot())); });
        return box;
    }

    /// Widgets that are there only while it holds.
    void showIf(std::initializer_list<QWidget*> parts, const std::function<bool(const Shot&)>& holds) {
        onRefresh([this, parts = std::vector<QWidget*>(parts), holds] {
            for (QWidget* part : parts) part->setVisible(holds(session_.shot()));
        });
    }
    void enableIf(std::initializer_list<QWidget*> parts, const std::function<bool(const Shot&)>& holds) {
        onRefresh([this, parts = std::vector<QWidget*>(parts), holds] {
            for (QWidget* part : parts) part->setEnabled(holds(session_.shot()));
        });
    }
    const Shot& shot() const { return session_.shot(); }
    void onRefresh(std::function<void()> show) { shows_.push_back(std::move(show)); }
    void refresh() {
        for (const auto& show : shows_) show();
    }
    /// An edit of a copy of the shot.
    void change(const QString& name, const std::function<void(Shot&)>& edit) {
        Shot shot = session_.shot();
        edit(shot);
        session_.edit(name, std::move(shot));
    }
    static void onClick(QAbstractButton* button, const std::function<void()>& run) {
        connect(button, &QAbstractButton::clicked, button, [run] { run(); });
    }

protected:
    Session& session_;

private:
    std::vector<std::function<void()>> shows_;
};

}  // namespace pinion
