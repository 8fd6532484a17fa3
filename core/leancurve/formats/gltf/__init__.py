"""glTF 2.0 read: skeletons and what moves them (Khronos Group, glTF 2.0 Specification)."""
