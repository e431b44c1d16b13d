#include "inspect/shape.h"

namespace deeptrace::inspect {
namespace {

struct Named {
  std::string_view name;
  Shape shape;
};
constexpr Named kShapes[] = {
    {"u8", {Shape::Kind::unsigned_integer, 1}},  {"u16", {Shape::Kind::unsigned_integer, 2}},
    {"u32", {Shape::Kind::unsigned_integer, 4}}, {"u64", {Shape::Kind::unsigned_integer, 8}},
    {"i8", {Shape::Kind::signed_integer, 1}},    {"i16", {Shape::Kind::signed_integer, 2}},
    {"i32", {Shape::Kind::signed_integer, 4}},   {"i64", {Shape::Kind::signed_integer, 8}},
    {"f32", {Shape::Kind::floating, 4}},         {"f64", {Shape::Kind::floating, 8}},
    {"f80", {Shape::Kind::floating, 10}},        {"string", {Shape::Kind::string, 1}},
    {"bytes", {Shape::Kind::bytes, 1}},
};

}  // namespace

std::optional<Shape> shape_named(std::string_view name, unsigned pointer_size) {
  if (name == "ptr") return Shape{Shape::Kind::pointer, pointer_size};
  for (const Named& one : kShapes) {
    if (one.name == name) return one.shape;
  }
  return std::nullopt;
}

std::string_view shape_names() { return "u8, u16, u32, u64, i8, i16, i32, i64, f32, f64, f80, ptr, string, bytes"; }

}  // namespace deeptrace::inspect
