#pragma once

#include <QString>
#include <QStringList>

class QWidget;

namespace pinion {

/// What is looked for; each kind remembers the folder it was last found in.
enum class FileKind { plate, plateOrShot, shot, tracks, lens, charts, maps, shake, mattes, art, mesh };

/// Empty when nothing was chosen.
QString askToOpen(FileKind kind, const QString& title, QWidget* parent = nullptr);
QStringList askToOpenSome(FileKind kind, const QString& title, QWidget* parent = nullptr);
/// `suggested` is a name, or a whole path where nothing of this kind was saved before. The kind's ending is added when
/// it is missing.
QString askToSave(FileKind kind, const QString& title, const QString& suggested, QWidget* parent = nullptr);
QString askForFolder(const QString& what, const QString& title, QWidget* parent = nullptr);

}  // namespace pinion
