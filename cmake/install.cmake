# The program with its pages, and core as a library: find_package(opifex), or pkg-config opifex. docs/library.md shows it.
include(GNUInstallDirs)
include(CMakePackageConfigHelpers)

install(TARGETS opifex RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(FILES ${OPIFEX_PAGES}/opifex.1 DESTINATION ${CMAKE_INSTALL_MANDIR}/man1)
install(FILES ${OPIFEX_PAGES}/opifex.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions RENAME opifex)
install(FILES ${OPIFEX_PAGES}/_opifex DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/site-functions)
install(FILES ${OPIFEX_PAGES}/opifex.fish DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d)

set(package_dir ${CMAKE_INSTALL_LIBDIR}/cmake/opifex)
set_target_properties(opifex_core PROPERTIES EXPORT_NAME core)
install(TARGETS opifex_core EXPORT opifex_targets ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(DIRECTORY src/core/include/ DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
install(EXPORT opifex_targets NAMESPACE opifex:: DESTINATION ${package_dir} FILE opifexTargets.cmake)
configure_package_config_file(cmake/opifexConfig.cmake.in ${CMAKE_BINARY_DIR}/opifexConfig.cmake
                              INSTALL_DESTINATION ${package_dir})
write_basic_package_version_file(${CMAKE_BINARY_DIR}/opifexConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_BINARY_DIR}/opifexConfig.cmake ${CMAKE_BINARY_DIR}/opifexConfigVersion.cmake
        DESTINATION ${package_dir})
configure_file(cmake/opifex.pc.in ${CMAKE_BINARY_DIR}/opifex.pc @ONLY)
install(FILES ${CMAKE_BINARY_DIR}/opifex.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
