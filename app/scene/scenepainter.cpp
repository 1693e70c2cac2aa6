#include "scene/scenepainter.h"

#include <algorithm>

namespace pinion {
namespace {

constexpr std::size_t kTextures = 16;  // kept of the pictures drawn last

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
// A picture's triangles carry their place in it in the colour's first two parts, and in the third how light it is.
const char* const kPictureShader = R"(#version 330 core
in vec4 shade;
uniform sampler2D plate;
out vec4 result;
void main() {
    vec4 seen = texture(plate, shade.xy);
    if (seen.a < 0.02) discard;
    result = vec4(seen.rgb * shade.z, seen.a * shade.a);
}
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
    textures_.clear();
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

QOpenGLTexture& ScenePainter::textureOf(const QImage& picture) {
    const auto known = std::find_if(textures_.begin(), textures_.end(),
                                    [&](const Texture& one) { return one.of == picture.cacheKey(); });
    if (known != textures_.end()) {
        textures_.splice(textures_.begin(), textures_, known);
        return *textures_.front().texture;
    }
    auto texture = std::make_unique<QOpenGLTexture>(picture, QOpenGLTexture::DontGenerateMipMaps);
    texture->setMinMagFilters(QOpenGLTexture::Linear, QOpenGLTexture::Linear);
    textures_.push_front({picture.cacheKey(), std::move(texture)});
    if (textures_.size() > kTextures) textures_.pop_back();
    return *textures_.front().texture;
}

void ScenePainter::drawPicture(const std::vector<SceneVertex>& triangles, const QMatrix4x4& clipFromWorld,
                               const QImage& picture, bool repeats) {
    if (picture.isNull()) return;
    QOpenGLTexture& texture = textureOf(picture);
    bind(*pictureProgram_, triangles, clipFromWorld);
    pictureProgram_->setUniformValue("size", 1.0F);
    texture.bind(0);
    texture.setWrapMode(repeats ? QOpenGLTexture::Repeat : QOpenGLTexture::ClampToEdge);
    pictureProgram_->setUniformValue("plate", 0);
    glDrawArrays(GL_TRIANGLES, 0, GLsizei(triangles.size()));
    texture.release();
    pictureProgram_->release();
    buffer_.release();
    array_.release();
}

}  // namespace pinion
