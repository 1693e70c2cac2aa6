#include "widgets/filedialogs.h"

#include <QApplication>
#include <QFileDialog>
#include <QFileInfo>
#include <QSettings>

namespace pinion {
namespace {

#define PINION_PLATE_ENDINGS "*.mp4 *.mov *.mkv *.avi *.mxf *.webm *.exr *.dpx *.tif *.tiff *.png *.jpg *.jpeg"

struct KindFacts {
    const char* key;
    const char* filter;
    const char* ending;
};

KindFacts factsOf(FileKind kind) {
    switch (kind) {
        case FileKind::plate:
            return {"plate", "Plates (" PINION_PLATE_ENDINGS ");;All files (*)", ""};
        case FileKind::plateOrShot:
            return {"plate", "Plates and shots (*.pinion " PINION_PLATE_ENDINGS ");;All files (*)", ""};
        case FileKind::shot:
            return {"shot", "Pinion shots (*.pinion)", ".pinion"};
        case FileKind::tracks:
            return {"tracks", "Tracks (*.json *.csv)", ""};
        case FileKind::lens:
            return {"lens", "Lenses (*.json *.yml *.yaml *.xml)", ""};
        case FileKind::charts:
            return {"charts", "Pictures of a chart (" PINION_PLATE_ENDINGS ");;All files (*)", ""};
        case FileKind::maps:
            return {"maps", "ST maps (*.exr)", ""};
        case FileKind::mattes:
            return {"matte pictures", "Shapes and pictures of mattes (*.json *.exr *.png *.tif *.tiff);;All files (*)",
                    ""};
        case FileKind::art:
            return {"art", "Pictures and clips (" PINION_PLATE_ENDINGS ");;All files (*)", ""};
        case FileKind::mesh:
            return {"mesh", "Meshes (*.obj *.ply *.gltf *.glb *.stl);;All files (*)", ""};
        case FileKind::shake:
            return {"shake", "Shake profiles (*.json)", ".json"};
    }
    return {"other", "All files (*)", ""};
}

QString folderKey(const QString& kind) { return "folders/" + kind; }

QString lastFolder(const QString& kind) {
    const QString folder = QSettings().value(folderKey(kind)).toString();
    return QFileInfo(folder).isDir() ? folder : QString();
}

QWidget* over(QWidget* parent) { return parent ? parent : QApplication::activeWindow(); }

}  // namespace

QString askToOpen(FileKind kind, const QString& title, QWidget* parent) {
    const KindFacts facts = factsOf(kind);
    const QString path = QFileDialog::getOpenFileName(over(parent), title, lastFolder(facts.key), facts.filter);
    if (!path.isEmpty()) QSettings().setValue(folderKey(facts.key), QFileInfo(path).absolutePath());
    return path;
}

QStringList askToOpenSome(FileKind kind, const QString& title, QWidget* parent) {
    const KindFacts facts = factsOf(kind);
    const QStringList paths = QFileDialog::getOpenFileNames(over(parent), title, lastFolder(facts.key), facts.filter);
    if (!paths.isEmpty()) QSettings().setValue(folderKey(facts.key), QFileInfo(paths.front()).absolutePath());
    return paths;
}

QString askToSave(FileKind kind, const QString& title, const QString& suggested, QWidget* parent) {
    const KindFacts facts = factsOf(kind);
    const QString folder = lastFolder(facts.key);
    const QString start = folder.isEmpty() ? suggested : folder + "/" + QFileInfo(suggested).fileName();
    QString path = QFileDialog::getSaveFileName(over(parent), title, start, facts.filter);
    if (path.isEmpty()) return path;
    if (*facts.ending && !path.endsWith(facts.ending)) path += facts.ending;
    QSettings().setValue(folderKey(facts.key), QFileInfo(path).absolutePath());
    return path;
}

QString askForFolder(const QString& what, const QString& title, QWidget* parent) {
    const QString path = QFileDialog::getExistingDirectory(over(parent), title, lastFolder(what));
    if (!path.isEmpty()) QSettings().setValue(folderKey(what), path);
    return path;
}

}  // namespace pinion
