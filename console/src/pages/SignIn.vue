<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ServiceError } from '../api/client'
import { capable } from '../api/passkeys'
import { useSession } from '../api/session'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { FieldError, useForm } from '../parts/useForm'
import { say } from '../words'

const session = useSession()
const route = useRoute()
const router = useRouter()
const { draft, wrong, busy, run } = useForm({
  code: '',
  name: '',
  password: '',
  factor: '',
  links: location.origin,
})
const again = ref('')
const refusals: Record<string, string> = {
  entry: say('This sign-in was not started here, or it took too long. Try again.'),
  role: say('None of your groups may sign in here. Ask the owner of this service.'),
  name: say('An operator with your name exists here and uses a password. Sign in with it.'),
  provider: say('The identity provider does not respond as expected. Local operators can sign in.'),
  tries: say('Too many tries. Wait a little.'),
  failed: say('This sign-in failed here. Try again, or ask the owner of this service.'),
}
const refused = computed(() => refusals[String(route.query.refused ?? '')] ?? '')
const target = () =>
  typeof route.query.to === 'string' && route.query.to.startsWith('/') ? route.query.to : '/'
async function enter() {
  await run(() => session.enter(target()), '')
}
async function byPasskey() {
  if (await run(() => session.signInByPasskey(), '')) await onwards()
}
const wanted = ref(false) // a code of the second factor

async function go() {
  const ok = await run(async () => {
    if (session.setUp) {
      if (draft.password !== again.value)
        throw new FieldError('/again', 'The two passwords differ.')
      await session.makeOwner(draft.code, draft.name, draft.password, draft.links)
    }
    try {
      await session.signIn(draft.name, draft.password, draft.factor)
    } catch (e) {
      if (e instanceof ServiceError && e.kind === 'code-wanted' && !wanted.value) {
        wanted.value = true
        return
      }
      if (e instanceof ServiceError && e.kind === 'passkey-wanted')
        throw new Error(say('Your password alone is not enough: sign in with your passkey.'))
      throw e
    }
  })
  if (ok && session.operator) await onwards()
}
async function onwards() {
  if (!session.operator) return
  if (session.operator.must_change || session.operator.must_enrol) await router.push('/me')
  else await router.push(target())
}
</script>

<template>
  <div class="page mx-auto" style="max-width: 28rem; padding-top: 6vh">
    <div class="panel">
      <img src="/favicon.svg" alt="" width="44" height="44" class="mb-3" />
      <PageHead :title="session.setUp ? 'Set up Wardicon' : 'Sign in to Wardicon'" />
      <p v-if="session.setUp" class="soft">
        This is the first start. The code is in the file set-up-code in the service's data folder.
      </p>
      <Notice :text="refused" />
      <template v-if="session.provider && !session.setUp">
        <BButton variant="primary" class="w-100 mb-3" :disabled="busy" @click="enter"
          >Sign in with {{ session.provider }}</BButton
        >
        <p class="soft text-center mb-2">or with a password of this service</p>
      </template>
      <template v-if="session.passkeys && capable() && !session.setUp">
        <BButton variant="outline-secondary" class="w-100 mb-3" :disabled="busy" @click="byPasskey"
          >Sign in with a passkey</BButton
        >
      </template>
      <form @submit.prevent="go">
        <Field
          v-if="session.setUp"
          v-model="draft.code"
          label="Set-up code"
          pointer="/code"
          required
        />
        <Field v-model="draft.name" label="Name" pointer="/name" required />
        <Field
          v-model="draft.password"
          kind="secret"
          label="Password"
          pointer="/password"
          :help="
            session.setUp
              ? 'At least 15 characters. Four or five unrelated words are easy to remember.'
              : ''
          "
          required
        />
        <Field
          v-if="wanted"
          v-model="draft.factor"
          label="Code of the second factor"
          pointer="/code"
          help="The six digits from your app."
          required
        />
        <Field
          v-if="session.setUp"
          v-model="again"
          kind="secret"
          label="Repeat the password"
          pointer="/again"
          required
        />
        <Field
          v-if="session.setUp"
          v-model="draft.links"
          label="Public URL of this service"
          pointer="/links"
          help="Links for people begin with it. Leave it empty if it is not known yet."
        />
        <Notice :text="wrong" />
        <BButton
          type="submit"
          :variant="session.provider && !session.setUp ? 'outline-secondary' : 'primary'"
          class="mt-3"
          :disabled="busy"
          >{{ session.setUp ? 'Create the owner and sign in' : 'Sign in' }}</BButton
        >
      </form>
    </div>
  </div>
</template>
