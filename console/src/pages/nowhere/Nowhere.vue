<template>
  <h1 class="mb-2">Page not found</h1>
  <p><RouterLink to="/">Go to Overview</RouterLink></p>
</template>
