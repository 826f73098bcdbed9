# The manual page and the completions come from the program's own tables.
set(pages opifex.1=man opifex.bash=bash _opifex=zsh opifex.fish=fish)
foreach(page IN LISTS pages)
  string(REPLACE "=" ";" page ${page})
  list(POP_FRONT page file)
  add_custom_command(OUTPUT ${OPIFEX_PAGES}/${file} COMMAND opifex help --page ${page} > ${OPIFEX_PAGES}/${file}
                     DEPENDS opifex VERBATIM)
  list(APPEND page_files ${OPIFEX_PAGES}/${file})
endforeach()
file(MAKE_DIRECTORY ${OPIFEX_PAGES})
add_custom_target(opifex_pages ALL DEPENDS ${page_files})
