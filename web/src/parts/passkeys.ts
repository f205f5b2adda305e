import { api, type RecoveryCodes, type Session } from '../api'

// What the server asks is in the JSON forms of Web Authentication, which the browser reads and writes by itself.
type Options = { publicKey: unknown }

// Passkeys belong to names: at a bare address there are none.
export const usable = () =>
  typeof PublicKeyCredential !== 'undefined' &&
  'parseRequestOptionsFromJSON' in PublicKeyCredential &&
  !/^[\d.]+$|:/.test(location.hostname)

// addPasskey has an authenticator make a passkey, and gives it to the server.
export async function addPasskey(password: string, label: string): Promise<RecoveryCodes> {
  const { handle, options } = await api.beginPasskey(password)
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    (options as Options).publicKey as PublicKeyCredentialCreationOptionsJSON,
  )
  const made = (await navigator.credentials.create({ publicKey })) as PublicKeyCredential
  return api.keepPasskey(handle, label, made.toJSON())
}

// signInByPasskey has an authenticator say who this is.
export async function signInByPasskey(): Promise<Session> {
  const { handle, options } = await api.askPasskey()
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON((options as Options).publicKey as PublicKeyCredentialRequestOptionsJSON)
  const shown = (await navigator.credentials.get({ publicKey })) as PublicKeyCredential
  return api.signInByPasskey(handle, shown.toJSON())
}
