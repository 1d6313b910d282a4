# Lines that are not blank: the program, its tests, and the share of tests in both.
program=$(git ls-files 'src/*.py' 'src/*.js' 'src/*.html' 'src/*.sql' 'src/*.css' | grep -v vendor | xargs cat | grep -cv '^[[:space:]]*$')
tests=$(git ls-files 'tests/*.py' | xargs cat | grep -cv '^[[:space:]]*$')
echo "program $program lines, tests $tests lines: tests are $((100 * tests / (program + tests))) % of both"
