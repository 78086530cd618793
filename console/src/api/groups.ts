import type { Member, Schemas } from './service'
import { data, service } from './service'

/** A case or a team: people are in it with a role, and join it by invitations. */
export interface Group {
  kind: 'case' | 'team'
  name: string
}

export type Invitation = Schemas['Invitation']
export type NewInvitation = Schemas['NewInvitation']

/** How many people a page of a group has. */
export const peopleOfPage = 100

/** What can be asked of a group; cases and teams answer alike. */
export function asked({ kind, name }: Group) {
  const of = kind === 'case'
  const inCase = { case: name }
  const inTeam = { team: name }
  return {
    members: (after: string): Promise<Member[]> => {
      const query = { after, count: peopleOfPage }
      return data(of ? service.GET('/api/cases/{case}/members', { params: { path: inCase, query } }) : service.GET('/api/teams/{team}/members', { params: { path: inTeam, query } }))
    },
    change: (person: string, body: Schemas['MemberChange']): Promise<Member> =>
      data(of ? service.PUT('/api/cases/{case}/members/{person}', { params: { path: { ...inCase, person } }, body }) : service.PUT('/api/teams/{team}/members/{person}', { params: { path: { ...inTeam, person } }, body })),
    remove: (person: string) => data(of ? service.DELETE('/api/cases/{case}/members/{person}', { params: { path: { ...inCase, person } } }) : service.DELETE('/api/teams/{team}/members/{person}', { params: { path: { ...inTeam, person } } })),
    invitations: (): Promise<Invitation[]> => data(of ? service.GET('/api/cases/{case}/invitations', { params: { path: inCase } }) : service.GET('/api/teams/{team}/invitations', { params: { path: inTeam } })),
    invite: (body: NewInvitation): Promise<Invitation> => data(of ? service.POST('/api/cases/{case}/invitations', { params: { path: inCase }, body }) : service.POST('/api/teams/{team}/invitations', { params: { path: inTeam }, body })),
    withdraw: (invitation: number) =>
      data(of ? service.DELETE('/api/cases/{case}/invitations/{invitation}', { params: { path: { ...inCase, invitation } } }) : service.DELETE('/api/teams/{team}/invitations/{invitation}', { params: { path: { ...inTeam, invitation } } })),
  }
}
