<script setup lang="ts">
import { signedOut } from './use/api'
import { live, useEvent } from './use/events'
import { number } from './use/format'
import { countUnseen, unseen } from './use/notices'

for (const name of ['notice', 'reset'] as const) useEvent(name, countUnseen)
</script>

<template>
  <v-app>
    <a class="skip" href="#main">Skip to the content</a>
    <header class="bar">
      <div class="inside">
        <router-link to="/" class="wordmark">jorvex</router-link>
        <nav aria-label="Main">
          <router-link to="/">Today</router-link>
          <router-link to="/inputs">Inputs</router-link>
          <router-link to="/refreshes">Refreshes</router-link>
          <router-link to="/places">Places</router-link>
          <router-link to="/notices">
            Notices <span v-if="unseen" class="unseen" :aria-label="`${number(unseen)} not seen`">{{ number(unseen) }}</span>
          </router-link>
          <router-link to="/settings">Settings</router-link>
        </nav>
        <span class="live" role="status">{{ signedOut ? '' : live ? 'live' : 'not live' }}</span>
      </div>
    </header>
    <main id="main" class="page">
      <v-alert v-if="signedOut" type="warning" title="This browser is not signed in">
        Run <code>jorvex sign-in</code> on the service's machine and open the link it prints.
      </v-alert>
      <router-view v-else />
    </main>
  </v-app>
</template>

<style scoped>
.bar {
  background: rgb(var(--v-theme-surface));
  border-bottom: 3px double rgb(var(--v-theme-primary));
}

.inside {
  max-width: 1240px;
  margin: 0 auto;
  padding: 10px 20px;
  display: flex;
  align-items: baseline;
  gap: 28px;
}

.wordmark {
  font-size: 1.35rem;
  font-weight: 720;
  letter-spacing: 0.06em;
  text-decoration: none;
  font-variant-caps: all-small-caps;
}

nav {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
}

nav a {
  text-decoration: none;
}

nav a.router-link-exact-active {
  text-decoration: underline;
}

.unseen {
  padding: 0 6px;
  border-radius: 9px;
  background: rgb(var(--v-theme-primary));
  color: rgb(var(--v-theme-on-primary));
  font-size: 0.8em;
}

.live {
  margin-left: auto;
  font-size: 0.87em;
  color: rgba(var(--v-theme-on-surface), 0.72);
}

.skip {
  position: absolute;
  left: -999px;
}

.skip:focus {
  left: 8px;
  top: 8px;
}
</style>
