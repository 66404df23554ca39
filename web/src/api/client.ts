import createClient from 'openapi-fetch'
import { base } from '../base'
import type { components, paths } from './schema'

export const api = createClient<paths>({ baseUrl: base })

type Schemas = components['schemas']
export type Chains = Schemas['Chains']
export type Arrival = Schemas['Arrival']
export type Balance = Schemas['Balance']
export type Day = Schemas['Day']
export type Notice = Schemas['Notice']
export type Problem = Schemas['Problem']
export type Volume = Schemas['Volume']
export type FeedView = Schemas['FeedView']
export type Progress = Schemas['Progress']
export type Reject = Schemas['NotableReject']
export type RejectGroup = Schemas['RejectGroup']
export type CheckResult = Schemas['CheckResult']
export type Rehearsal = Schemas['Rehearsal']
export type Sample = Schemas['Sample']
export type Drafts = Schemas['Drafts']
export type History = Schemas['RowHistory']
export type Recalled = Schemas['Recalled']
export type Target = Schemas['TargetView']
export type Rows = Schemas['TableRows']
export type Run = Schemas['Run']
export type State = Arrival['state']
export type Slot = Schemas['SlotView']
export type Status = Schemas['Status']
export type SlotState = Slot['state']
export type Verb = Schemas['Verdict']['verb']

/** The data of an answer, or its problem as an error that people can read. */
export async function got<T>(answer: Promise<{ data?: T; error?: { detail?: string; title?: string } }>): Promise<T> {
  const { data, error } = await answer.catch(() => {
    throw new Error('The service does not answer.')
  })
  if (error) throw new Error(error.detail || error.title || 'The service refused.')
  return data as T
}
