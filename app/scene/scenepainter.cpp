#include "scene/scenepainter.h"

namespace pinion {
namespace {

const char* const kVertexShader = R"(#version 330 core
layout(location = 0) in vec3 place;
layout(location = 1) in vec4 colour;
uniform mat4 clipFromWorld;
uniform float size;
out vec4 shade;
void main() { gl_Position = clipFromWorld * vec4(place, 1.0); gl_PointSize = size; shade = colour; }
)";
const char* const kFragmentShader = R"(#version 330 core
in vec4 shade;
out vec4 result;
void main() { result = shade; }
)";
// A picture's triangles carry their place in it in the colour's first two parts.
const char* const kPictureShader = R"(#version 330 core
in vec4 shade;
uniform sampler2D plate;
out vec4 result;
void main() { result = vec4(texture(plate, shade.xy).rgb, shade.a); }
)";

std::unique_ptr<QOpenGLShaderProgram> programOf(const char* fragmentShader) {
    auto program = std::make_unique<QOpenGLShaderProgram>();
    program->addShaderFromSourceCode(QOpenGLShader::Vertex, kVertexShader);
    program->addShaderFromSourceCode(QOpenGLShader::Fragment, fragmentShader);
    program->link();
    return program;
}

}  // namespace

void ScenePainter::begin() {
    initializeOpenGLFunctions();
    program_ = programOf(kFragmentShader);
    pictureProgram_ = programOf(kPictureShader);
    array_.create();
    buffer_.create();
    buffer_.setUsagePattern(QOpenGLBuffer::StreamDraw);
}

void ScenePainter::end() {
    texture_.reset();
    program_.reset();
    pictureProgram_.reset();
    array_.destroy();
    buffer_.destroy();
}

void ScenePainter::clear(const QColor& ground) {
    glClearColor(ground.redF(), ground.greenF(), ground.blueF(), 1.0F);
    glClear(GL_COLOR_BUFFER_BIT | GL_DEPTH_BUFFER_BIT);
    glEnable(GL_DEPTH_TEST);
    glEnable(GL_PROGRAM_POINT_SIZE);
    glEnable(GL_BLEND);
    glBlendFunc(GL_SRC_ALPHA, GL_ONE_MINUS_SRC_ALPHA);
}

void ScenePainter::bind(QOpenGLShaderProgram& program, const std::vector<SceneVertex>& vertices,
                        const QMatrix4x4& clipFromWorld) {
    array_.bind();
    buffer_.bind();
    buffer_.allocate(vertices.data(), int(vertices.size() * sizeof(SceneVertex)));
    program.bind();
    program.setUniformValue("clipFromWorld", clipFromWorld);
    program.enableAttributeArray(0);
    program.enableAttributeArray(1);
    program.setAttributeBuffer(0, GL_FLOAT, 0, 3, sizeof(SceneVertex));
    program.setAttributeBuffer(1, GL_FLOAT, 3 * sizeof(float), 4, sizeof(SceneVertex));
}

void ScenePainter::draw(const std::vector<SceneVertex>& vertices, GLenum mode, const QMatrix4x4& clipFromWorld,
                        float size) {
    if (vertices.empty()) return;
    bind(*program_, vertices, clipFromWorld);
    program_->setUniformValue("size", size);
    glDrawArrays(mode, 0, GLsizei(vertices.size()));
    program_->release();
    buffer_.release();
    array_.release();
}

void ScenePainter::drawPicture(const std::vector<SceneVertex>& triangles, const QMatrix4x4& clipFromWorld,
                               const QImage& picture) {
    if (picture.isNull()) return;
    if (picture.cacheKey() != textureOf_ || !texture_) {
        texture_ = std::make_unique<QOpenGLTexture>(picture, QOpenGLTexture::DontGenerateMipMaps);
        texture_->setMinMagFilters(QOpenGLTexture::Linear, QOpenGLTexture::Linear);
        texture_->setWrapMode(QOpenGLTexture::ClampToEdge);
        textureOf_ = picture.cacheKey();
    }
    bind(*pictureProgram_, triangles, clipFromWorld);
    pictureProgram_->setUniformValue("size", 1.0F);
    texture_->bind(0);
    pictureProgram_->setUniformValue("plate", 0);
    glDrawArrays(GL_TRIANGLES, 0, GLsizei(triangles.size()));
    texture_->release();
    pictureProgram_->release();
    buffer_.release();
    array_.release();
}

}  // namespace pinion
