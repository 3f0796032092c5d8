from silent_loom.cli import main

main()
