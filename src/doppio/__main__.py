from doppio.command.app import main

main()
