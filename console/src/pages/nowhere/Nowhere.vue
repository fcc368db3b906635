<template>
  <h1 class="mb-2">There is no such page</h1>
  <p><RouterLink to="/">To the overview</RouterLink></p>
</template>
