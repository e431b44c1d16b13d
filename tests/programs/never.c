/* Has a function that nobody calls. */
int by_level(int a, int b) { return a - b; }

int main(void) { return 0; }
