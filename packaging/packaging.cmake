# Installation, manual pages and completion for shells, and a Debian package:
#   cmake --install build/release --prefix /usr/local
#   cpack --config build/release/CPackConfig.cmake -B build/package
include(GNUInstallDirs)

# Made by the program itself from what its help is made of.
set(MANUALS ${CMAKE_BINARY_DIR}/share)
add_custom_command(
  OUTPUT ${MANUALS}/man/man1/deeptrace.1
  COMMAND Python3::Interpreter ${CMAKE_SOURCE_DIR}/packaging/generate.py $<TARGET_FILE:deeptrace> ${MANUALS}
  DEPENDS deeptrace ${CMAKE_SOURCE_DIR}/packaging/generate.py
  VERBATIM)
add_custom_target(manuals ALL DEPENDS ${MANUALS}/man/man1/deeptrace.1)

install(TARGETS deeptrace RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(DIRECTORY ${MANUALS}/ DESTINATION ${CMAKE_INSTALL_DATADIR})
install(FILES README.md LICENSE DESTINATION ${CMAKE_INSTALL_DOCDIR})
install(DIRECTORY docs/formats docs/guide DESTINATION ${CMAKE_INSTALL_DOCDIR})
# The tour: its programs as they were built, and their sources.
install(
  DIRECTORY ${CMAKE_BINARY_DIR}/demo/
  DESTINATION ${CMAKE_INSTALL_DATADIR}/deeptrace/demo
  USE_SOURCE_PERMISSIONS
  PATTERN "CMakeFiles" EXCLUDE
  PATTERN "*.cmake" EXCLUDE
  PATTERN "*.o" EXCLUDE)
install(DIRECTORY demo/ DESTINATION ${CMAKE_INSTALL_DATADIR}/deeptrace/demo-sources)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME deeptrace)
set(CPACK_PACKAGE_CONTACT "The Deep Trace developers <deeptrace@localhost>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "looks into compiled programs and follows them as they run")
set(CPACK_PACKAGE_DESCRIPTION
    "Disassembles C, C++ and assembly programs, maps source lines to instructions, stops a program at an instruction, and
traces registers, stack frames, memory and system calls.")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES OFF) # the demo programs keep their debug information
set(CPACK_DEBIAN_PACKAGE_SECTION devel)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_RECOMMENDS "libc6-i386, fonts-dejavu-core")
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_OUTPUT_FILE_PREFIX ${CMAKE_BINARY_DIR}/package)
include(CPack)
