# One test of ctest for each suite of the core's tests: a thousand processes for a thousand tests would take minutes to start.
# What takes long begins first, so that nothing is waited for alone at the end.
# Seconds as measured on two cores, three suites at once.
set(GCLK_LONG Commands 260 Remedies 190 ForeignTimelines 110 Taps 100 RandomTimelines 95 Demo 76 Delivering 75 FfmpegsFrames 66 Measuring 61
    FactsOfTheTrade 57 PlansOfTheDesk 51 QueueByCommand 48 Nights 42 TheCommands 37 Documents 34 HandoverCommands 34 Devices 32 Exactly 24
    TheFiles 22 House 21 Costs 21 EveryForm/Decoding 20 Seeds/Hurt 16 Accelerated 14 OnACluster 14 Scripted 14 Dust 12 Foreign/EveryContainer 12)
execute_process(COMMAND ${GCLK_TESTS} --gtest_list_tests OUTPUT_VARIABLE listed RESULT_VARIABLE failed)
if(failed)
  message(FATAL_ERROR "the tests cannot be listed: ${GCLK_TESTS}")
endif()
string(REGEX MATCHALL "(^|\n)[A-Za-z0-9_/]+\\." suites "${listed}")
foreach(suite ${suites})
  string(REGEX REPLACE "\n|\\.$" "" suite "${suite}")
  if(suite STREQUAL "main" OR suite STREQUAL "")
    continue()
  endif()
  add_test("${suite}" ${GCLK_TESTS} "--gtest_filter=${suite}.*")
  list(FIND GCLK_LONG ${suite} at)
  set(cost 1)
  if(at GREATER -1)
    math(EXPR at "${at} + 1")
    list(GET GCLK_LONG ${at} cost)
  endif()
  set_tests_properties("${suite}" PROPERTIES TIMEOUT 1500 COST ${cost} ENVIRONMENT "${GCLK_KERNELS}")
endforeach()
