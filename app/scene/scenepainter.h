#pragma once

#include "scene/scenegeometry.h"

#include <QImage>
#include <QMatrix4x4>
#include <QOpenGLBuffer>
#include <QOpenGLFunctions_3_3_Core>
#include <QOpenGLShaderProgram>
#include <QOpenGLTexture>
#include <QOpenGLVertexArrayObject>

#include <list>
#include <memory>
#include <vector>

namespace pinion {

/// Draws vertices with OpenGL 3.3. Every call needs the context to be current.
class ScenePainter : protected QOpenGLFunctions_3_3_Core {
public:
    void begin();
    void end();
    void clear(const QColor& ground);
    void draw(const std::vector<SceneVertex>& vertices, GLenum mode, const QMatrix4x4& clipFromWorld, float size = 1);
    /// Triangles whose colour's first two parts are the place in the picture, the third how light it is.
    /// Beyond its sides it is held, or repeated.
    void drawPicture(const std::vector<SceneVertex>& triangles, const QMatrix4x4& clipFromWorld, const QImage& picture,
                     bool repeats = false);

private:
    QOpenGLTexture& textureOf(const QImage& picture);
    void bind(QOpenGLShaderProgram& program, const std::vector<SceneVertex>& vertices, const QMatrix4x4& clipFromWorld);

    std::unique_ptr<QOpenGLShaderProgram> program_;
    std::unique_ptr<QOpenGLShaderProgram> pictureProgram_;
    QOpenGLBuffer buffer_{QOpenGLBuffer::VertexBuffer};
    QOpenGLVertexArrayObject array_;
    struct Texture {
        qint64 of;
        std::unique_ptr<QOpenGLTexture> texture;
    };
    std::list<Texture> textures_;  ///< the latest first
};

}  // namespace pinion
