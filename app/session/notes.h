#pragma once

#include <QObject>
#include <QString>

#include <string>

namespace pinion {

inline QString text(const std::string& utf8) { return QString::fromStdString(utf8); }

/// What the program has to say, wherever it comes from. One place in the window shows it.
class Notes : public QObject {
    Q_OBJECT
public:
    using QObject::QObject;
    void say(const QString& words) { emit said(words, false); }
    void sayError(const QString& words) { emit said(words, true); }

signals:
    void said(const QString& words, bool error);
};

}  // namespace pinion
