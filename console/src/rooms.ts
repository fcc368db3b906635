// The pages that stand in the navigation, and that the search finds by name.
import {
  ArchiveBoxIcon,
  BookOpenIcon,
  CircleStackIcon,
  CpuChipIcon,
  CubeIcon,
  GlobeAltIcon,
  KeyIcon,
  LockClosedIcon,
  PencilSquareIcon,
  QueueListIcon,
  ServerStackIcon,
  Squares2X2Icon,
  UserGroupIcon,
} from '@heroicons/vue/24/outline'

export const rooms = [
  { to: '/', text: 'Overview', icon: Squares2X2Icon },
  { to: '/describe', text: 'Definitions', icon: PencilSquareIcon },
  { to: '/sources', text: 'Sources', icon: GlobeAltIcon },
  { to: '/keys', text: 'Keys', icon: KeyIcon },
  { to: '/credentials', text: 'Credentials', icon: LockClosedIcon },
  { to: '/mirrors', text: 'Mirrors', icon: ArchiveBoxIcon },
  { to: '/lanes', text: 'Lanes', icon: QueueListIcon },
  { to: '/packages', text: 'Packages', icon: CubeIcon },
  { to: '/machines', text: 'Machines', icon: ServerStackIcon },
  { to: '/storage', text: 'Storage', icon: CircleStackIcon },
  { to: '/jobs', text: 'Jobs', icon: CpuChipIcon },
  { to: '/journal', text: 'Journal', icon: BookOpenIcon },
  { to: '/accounts', text: 'Accounts', icon: UserGroupIcon },
]
