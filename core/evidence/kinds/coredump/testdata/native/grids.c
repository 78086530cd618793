/* Arrays whose dimensions are known at run time only, and arrays of one-byte types. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int main(int argc, char **argv) {
  int n = argc + 2, m = argc + 3, k = argc + 1;
  (void)argv;
  double line[n];
  int grid[n][m], cube[k][n][m];
  short fixed[2][m][3];
  for (int i = 0; i < n; i++) line[i] = i / 2.0;
  for (int i = 0; i < n; i++)
    for (int j = 0; j < m; j++) grid[i][j] = 10 * i + j;
  for (int h = 0; h < k; h++)
    for (int i = 0; i < n; i++)
      for (int j = 0; j < m; j++) cube[h][i][j] = 100 * h + 10 * i + j;
  for (int i = 0; i < 2; i++)
    for (int j = 0; j < m; j++)
      for (int h = 0; h < 3; h++) fixed[i][j][h] = (short)(100 * i + 10 * j + h);
  signed char depths[4] = {0, -3, 5, 0};
  unsigned char raw[4] = {'K', 'e', 'l', 0};
  char name[12] = "Kelp Quay", odd[4] = {0, 7, 0, 0};
  printf("value main n %d\nvalue main m %d\n", n, m);
  printf("value main size(line) %d\nvalue main size(grid) %d\nvalue main size(grid[0]) %d\n", n, n, m);
  printf("value main size(cube) %d\nvalue main size(cube[1]) %d\nvalue main size(cube[1][2]) %d\n", k, n, m);
  printf("value main size(fixed[1]) %d\nvalue main size(fixed[1][2]) %d\n", m, 3);
  for (int i = 0; i < n; i++)
    for (int j = 0; j < m; j++) printf("value main grid[%d][%d] %d\n", i, j, grid[i][j]);
  for (int h = 0; h < k; h++)
    for (int i = 0; i < n; i++)
      for (int j = 0; j < m; j++) printf("value main cube[%d][%d][%d] %d\n", h, i, j, cube[h][i][j]);
  for (int j = 0; j < m; j++) printf("value main fixed[1][%d][2] %d\n", j, fixed[1][j][2]);
  for (int i = 0; i < 4; i++) printf("value main int(depths[%d]) %d\nvalue main int(raw[%d]) %d\nvalue main int(odd[%d]) %d\n", i, depths[i], i, raw[i], i, odd[i]);
  printf("value main name \"%s\"\n", name);
  fflush(stdout);
  abort();
}
